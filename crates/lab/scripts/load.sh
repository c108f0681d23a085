#!/bin/sh
# load.sh PLATFORM TREE ADDRESS CACHE - lets a real daemon load the tree of a gateway.
# Runs in namespaces of its own (network, mounts, processes), so that the tree is what the daemon finds
# at /etc and nothing stays behind. Prints what the loaders print, each line with its origin before it.
set -u
platform=$1 tree=$2 address=$3 cache=$4
mount --make-rprivate /
state=/tmp/uspan-load
mkdir -p $state && mount -t tmpfs tmpfs $state
cp -a /etc $state/etc
[ "$platform" = libreswan ] && cp -a "$cache/libreswan/etc/." $state/etc/
cp -a "$tree/etc/." $state/etc/
mount --bind $state/etc /etc
mount -t tmpfs tmpfs /run
ip link set lo up
ip link add outside type veth peer name nowhere
case $address in
  *:*) ip addr add "$address/64" dev outside nodad ;;
  *) ip addr add "$address/24" dev outside ;;
esac
ip link set outside up && ip link set nowhere up
case $address in *:*) ip -6 route add default dev outside ;; *) ip route add default dev outside ;; esac

tell() { # tell ORIGIN COMMAND...: runs a command, prints its lines and its exit code
  origin=$1; shift
  "$@" >$state/said 2>&1; code=$?
  sed "s/^/$origin: /" $state/said
  echo "$origin exit $code"
}
wait_for() { # wait_for PATH
  i=0
  while [ ! -S "$1" ] && [ $i -lt 300 ]; do sleep 0.1; i=$((i + 1)); done
  [ -S "$1" ] || echo "$1 did not appear"
}

case $platform in
  strongswan)
    charon-systemd >$state/daemon 2>&1 </dev/null &
    wait_for /run/charon.vici
    tell swanctl swanctl --load-all --noprompt
    ;;
  libreswan)
    mount -t tmpfs tmpfs /usr/libexec && mkdir -p /usr/libexec/ipsec
    mount --bind "$cache/libreswan/usr/libexec/ipsec" /usr/libexec/ipsec
    mount -t tmpfs tmpfs /var/lib && mkdir -p /var/lib/ipsec/nss /run/pluto
    PATH=$cache/libreswan/usr/sbin:$PATH
    certutil -N -d sql:/var/lib/ipsec/nss --empty-password
    tell checkconfig /usr/libexec/ipsec/addconn --config /etc/ipsec.conf --checkconfig
    /usr/libexec/ipsec/pluto --nofork --config /etc/ipsec.conf --logfile $state/daemon --no-dnssec >/dev/null 2>&1 </dev/null &
    wait_for /run/pluto/pluto.ctl
    tell whack /usr/libexec/ipsec/whack --listen
    for connection in $(sed -n 's/^conn \(.*_.*\)/\1/p' /etc/ipsec.d/*.conf); do
      tell addconn /usr/libexec/ipsec/addconn --config /etc/ipsec.conf "$connection"
    done
    /usr/libexec/ipsec/whack --status | grep '^000 "' | sed 's/^/status: /'
    # What pluto says of netlink messages speaks of the kernel it runs on, not of the configuration.
    sed 's/^/log: /' $state/daemon | grep -v 'netlink_expire got message' | grep -iE 'error|fail|warn|ignor|bad |unknown|invalid' || true
    ;;
  openiked)
    tell iked iked -n -f /etc/iked.conf
    ;;
esac
for rules in /etc/nftables.d/*.nft; do
  tell nft nft -c -f "$rules"
  # Twice: loading a file again must be the same as loading it once.
  tell nft nft -f "$rules"
  tell nft nft -f "$rules"
done
for chains in /etc/nftables.d/*.chains; do
  [ -e "$chains" ] || continue
  name=$(basename "$chains" .chains)
  cat >$state/admin <<EOF
table inet admin {
  include "$chains"
  chain input { type filter hook input priority 0; policy drop; jump $name-input; }
  chain forward { type filter hook forward priority 0; policy drop; jump $name-forward; }
}
EOF
  tell nft nft -f $state/admin
done
