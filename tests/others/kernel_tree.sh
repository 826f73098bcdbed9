#!/bin/bash
# What Linux's own drivers read of an image: kernel_tree.sh IMAGE [iso9660|udf|affs]
# Prints "SHA-256  path" of every file. Runs without rights under Debian's user-mode-linux; exit 77 where it cannot run.
set -eu
image=$(realpath "$1")
kind=${2:-iso9660}
options=ro,nosuid,nodev
# Names of an Amiga disk come as the bytes they are.
[[ $kind == affs ]] || options=$options,iocharset=utf8
skip() {
  echo "SKIPPED: Linux's drivers cannot be asked: $1" >&2
  exit 77
}
command -v linux.uml > /dev/null || skip "user-mode-linux is not installed"
command -v insmod > /dev/null || skip "kmod is not installed"
modules=$(echo /usr/lib/uml/modules/*)
[[ -d $modules ]] || skip "user-mode-linux has no modules"
[[ -r $image ]] || { echo "no such image: $image" >&2; exit 2; }

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
module() { find "$modules" -name "$1.ko" -o -name "${1//-/_}.ko" | head -1; }
# The root of the small machine is this one's, read-only; what it finds out goes to its console.
{
  echo '#!/bin/sh'
  echo 'export PATH=/usr/sbin:/usr/bin:/sbin:/bin'
  for name in cdrom nls_utf8 crc-itu-t isofs udf affs; do
    path=$(module "$name")
    [[ -z $path ]] || echo "insmod '$path' 2> /dev/null"
  done
  echo 'mount -t tmpfs tmpfs /mnt && mkdir /mnt/disc'
  echo "mount -t $kind -o $options /dev/ubda /mnt/disc || echo MOUNT-FAILED"
  echo 'cd /mnt/disc && echo TREE-BEGINS && find . -type f -exec sha256sum {} + && echo TREE-ENDS'
  echo 'halt -f'
} > "$work/init"
chmod +x "$work/init"
timeout 120 linux.uml mem=128M root=/dev/root rootfstype=hostfs rootflags=/ ro "init=$work/init" "ubd0r=$image" \
  con=null con0=fd:0,fd:1 < /dev/null > "$work/console" 2>&1 || true
tr -d '\r' < "$work/console" > "$work/text"
grep -q MOUNT-FAILED "$work/text" && { echo "Linux cannot mount this image as $kind" >&2; exit 1; }
grep -q TREE-ENDS "$work/text" || skip "user-mode-linux did not run: $(tail -1 "$work/text")"
sed -n '/^TREE-BEGINS$/,/^TREE-ENDS$/p' "$work/text" | grep -E '^[0-9a-f]{64}  ' | sed 's|  \./|  |' | sort -k 2
