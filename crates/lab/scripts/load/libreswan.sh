furnish() { cp -a "$cache/libreswan/etc/." $state/etc/; }

load() {
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
}
