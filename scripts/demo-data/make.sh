#!/usr/bin/env bash
# Builds the file systems of the demo with the operating system's own tools and
# packs them into internal/demo/data. Needs root, FUSE, dosfstools, mtools,
# ntfs-3g and e2fsprogs. The sizes are those of the parts in internal/demo/machines.go.
set -euo pipefail
cd "$(dirname "$0")/../.."
out=internal/demo/data
work=$(mktemp -d)
trap 'umount -q "$work/m" || true; rm -rf "$work"' EXIT
mkdir -p "$work/m"
here=scripts/demo-data
go build -o "$work/pack" ./$here
rm -f $out/*.tar.zst
MiB=1048576

esp() { # name label serial folder loader: where the loader lies
  truncate -s $((100 * MiB)) "$work/$1"
  mkfs.fat -F 32 -n "$2" -i "$3" "$work/$1" >/dev/null
  mmd -i "$work/$1" ::EFI "::EFI/$4"
  "$work/pack" -loader $((0x$3)) "$work/loader"
  mcopy -i "$work/$1" "$work/loader" "::EFI/$4/$5"
  "$work/pack" "$work/$1" "$out/$1.tar.zst"
}
fill() { # machine date: adds to what is mounted
  python3 $here/fill.py "$work/m" "$1" "$2"
}
states() { # image machine dates mount-command...
  local image=$1 machine=$2 dates=$3
  shift 3
  for d in $(seq 0 "$dates"); do
    "$@" "$work/$image" "$work/m"
    fill "$machine" "$d"
    sync
    umount "$work/m"
    if [ "$d" = 0 ]; then
      "$work/pack" "$work/$image" "$out/$image.0.tar.zst"
    else
      "$work/pack" -base "$work/before" "$work/$image" "$out/$image.$d.tar.zst"
    fi
    cp --sparse=always "$work/$image" "$work/before"
  done
}
ntfs() { # image bytes label
  truncate -s "$2" "$work/$1"
  mkntfs -F -Q -q -s 512 -p "$4" -H 255 -S 63 -L "$3" "$work/$1" 2>/dev/null
}

esp desk-esp DESKSTART 1a2b0001 BOOT BOOTX64.EFI
ntfs desk-system $((237000 * MiB)) "Ticket desk" 239616
states desk-system desk 2 ntfs-3g
ntfs desk-recovery $((600 * MiB)) "Recovery" 485615616
states desk-recovery recovery 0 ntfs-3g

esp kiosk-esp KIOSKSTART 1a2b0002 kiosk grubx64.efi
truncate -s $((56000 * MiB)) "$work/kiosk-root"
mkfs.ext4 -q -L kiosk-root -U 5d1c7a10-0000-4000-8000-00000000a001 -N 40000 -J size=8 -E lazy_itable_init=1,nodiscard "$work/kiosk-root"
states kiosk-root kiosk 2 mount -o loop
truncate -s $((4000 * MiB)) "$work/kiosk-swap"
mkswap -L kiosk-swap -U 5d1c7a10-0000-4000-8000-00000000a002 "$work/kiosk-swap" >/dev/null
"$work/pack" "$work/kiosk-swap" $out/kiosk-swap.tar.zst

esp purser-esp PURSERBOOT 1a2b0003 BOOT BOOTX64.EFI
truncate -s $((121000 * MiB)) "$work/purser-root"
mkfs.ext4 -q -L purser-root -U 5d1c7a10-0000-4000-8000-00000000b001 -N 40000 -J size=8 -E lazy_itable_init=1,nodiscard "$work/purser-root"
states purser-root purser 1 mount -o loop
ntfs purser-manifests $((476000 * MiB)) Manifests 2048
states purser-manifests manifests 1 ntfs-3g

truncate -s $((2000 * MiB)) "$work/weighbridge"
mkfs.fat -F 16 -n WEIGHBRIDGE -i 1a2b0004 -h 63 "$work/weighbridge" >/dev/null
python3 -c "print('weight;lorry\n' + ''.join(f'{(i * 7919) % 24000};L-{i % 97}\n' for i in range(9000)))" >"$work/weights"
mcopy -i "$work/weighbridge" "$work/weights" ::WEIGHTS.CSV
"$work/pack" "$work/weighbridge" $out/weighbridge.tar.zst

truncate -s $((1900000 * MiB)) "$work/oak"
mkfs.ext4 -q -L oak-store -U 5d1c7a10-0000-4000-8000-00000000c001 -N 20000 -O ^resize_inode -J size=8 -E lazy_itable_init=1,nodiscard "$work/oak"
"$work/pack" "$work/oak" $out/oak.tar.zst
ls -l $out
