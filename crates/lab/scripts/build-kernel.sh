#!/bin/bash
# build-kernel.sh CONFIG OUT - builds the guest kernel from Debian's kernel source (root, apt; about 7 minutes on two cores).
set -euo pipefail
config=$(readlink -f "$1") out=$(readlink -f "$2")
export DEBIAN_FRONTEND=noninteractive
apt-get install -y -q --no-install-recommends gcc make libc6-dev flex bison bc xz-utils binutils
work=$(mktemp -d /var/tmp/uspan-kernel.XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work"
source=$(apt-cache depends linux-source | awk '/Depends: linux-source-/ { print $2 }')
apt-get download -q "$source"
dpkg -x linux-source-*.deb package
tar xf package/usr/src/linux-source-*.tar.xz
cd linux-source-*/
make -s ARCH=um defconfig
cat "$config" >> .config
# `yes` ends with a broken pipe.
(set +o pipefail; yes '' | make -s ARCH=um olddefconfig)
while read -r line; do
  case $line in
    *=y) grep -q "^$line" .config || { echo "not in this kernel: $line" >&2; exit 1; } ;;
  esac
done < "$config"
make -s ARCH=um -j"$(nproc)" linux
strip -o "$out.new" linux
mv "$out.new" "$out"
