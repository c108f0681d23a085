#!/bin/sh
# load.sh DRIVER TREE ADDRESS CACHE - lets a real daemon load the tree of a gateway. DRIVER is the text of a script that
# defines `furnish`, what its package has at /etc below $state, and `load`.
# Runs in namespaces of its own (network, mounts, processes), so that the tree is what the daemon finds
# at /etc and nothing stays behind. Prints what the loaders print, each line with its origin before it.
set -u
driver=$1 tree=$2 address=$3 cache=$4
eval "$driver"
mount --make-rprivate /
state=/tmp/uspan-load
mkdir -p $state && mount -t tmpfs tmpfs $state
cp -a /etc $state/etc
furnish
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

load
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
