#!/bin/sh
# install.sh CACHE - installs what the lab needs on Debian 12 (root, apt), and unpacks what cannot be installed beside it into folders of
# CACHE: Libreswan, whose package conflicts with strongSwan's, and the starter of strongSwan's older form. Does nothing where all is there.
set -eu
# What performs a proof is nobody's user, and reads this.
umask 022
cache=$1
export DEBIAN_FRONTEND=noninteractive
need='charon-systemd strongswan-swanctl libstrongswan-standard-plugins libstrongswan-extra-plugins openiked nftables iptables iproute2 ifupdown frr openssl
  dns-root-data libnss3-tools libaudit1 libcap-ng0 libcurl3-nss libevent-core-2.1-7 libevent-pthreads-2.1-7
  libldap-2.5-0 libldns3 libnspr4 libnss3 libpam0g libselinux1 libunbound8'
missing=
for package in $need; do
  dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing="$missing $package"
done
if [ -n "$missing" ] || [ ! -x "$cache/libreswan/usr/libexec/ipsec/pluto" ] || [ ! -x "$cache/strongswan-starter/usr/lib/ipsec/starter" ]; then
  apt-get update -q
fi
# A service that starts by itself is not wanted here: policy-rc.d answers no for the time of the install.
if [ -n "$missing" ]; then
  if [ ! -e /usr/sbin/policy-rc.d ]; then
    printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d
    chmod +x /usr/sbin/policy-rc.d
    trap 'rm -f /usr/sbin/policy-rc.d' EXIT
  fi
  # shellcheck disable=SC2086 # a list of words
  apt-get install -y -q --no-install-recommends $missing
fi
# unpack PACKAGE PROGRAM
unpack() {
  [ ! -x "$cache/$1/$2" ] || return 0
  mkdir -p "$cache/download"
  (cd "$cache/download" && rm -f "$1"_*.deb && apt-get download -q "$1")
  rm -rf "$cache/$1.new"
  dpkg -x "$cache"/download/"$1"_*.deb "$cache/$1.new"
  rm -rf "${cache:?}/$1"
  mv "$cache/$1.new" "$cache/$1"
}
unpack libreswan usr/libexec/ipsec/pluto
unpack strongswan-starter usr/lib/ipsec/starter
# The daemons' programs are bound over folders that must be there, also where `/` cannot be written.
mkdir -p /usr/libexec /usr/local/sbin
