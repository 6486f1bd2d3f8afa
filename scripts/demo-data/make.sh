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
    if [ "$d" = 0 ] && declare -F "room_$machine" >/dev/null; then
      "room_$machine" "$work/$image" # what takes room and holds nothing, so that it costs nothing to store
    fi
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

gib=$((1024 * MiB))
room_desk() {
  for f in 41:2019 17:2021 23:2023 19:2025; do
    ntfsfallocate -l $((${f%:*} * gib)) "$1" "Archive/${f#*:}.zip" >/dev/null 2>&1
  done
  ntfsfallocate -l $((11 * gib)) "$1" pagefile.sys >/dev/null 2>&1
}
room_manifests() {
  for y in 2019 2020 2021 2022 2023 2024; do
    ntfsfallocate -l $((49 * gib)) "$1" "scans-$y.zip" >/dev/null 2>&1
  done
}
room_chart() { ntfsfallocate -l $((71 * gib)) "$1" "Charts/soundings.dat" >/dev/null 2>&1; }
room_recovery() { ntfsfallocate -l $((410 * MiB)) "$1" Recovery/system.img >/dev/null 2>&1; }
room_booking() {
  ntfsfallocate -l $((3 * gib)) "$1" hiberfil.sys >/dev/null 2>&1
  ntfsfallocate -l $((2 * gib)) "$1" pagefile.sys >/dev/null 2>&1
}
in_ext() { # image size name: a file of the size
  mount -o loop "$1" "$work/m"
  mkdir -p "$(dirname "$work/m/$3")"
  fallocate -l "$2" "$work/m/$3"
  umount "$work/m"
}
room_kiosk() { in_ext "$1" $((29 * gib)) var/cache/loop/loop.mov; }
room_purser() { in_ext "$1" $((38 * gib)) home/pell/mail/archive.mbox; }
room_crane() { # with a file that was really written: on this one places can't be read
  in_ext "$1" $((12 * gib)) srv/crane/load-cells.dat
  mount -o loop "$1" "$work/m"
  head -c $((256 * MiB)) /dev/zero >"$work/m/srv/crane/load-cells-2026.dat"
  umount "$work/m"
  fallocate -d "$1"
}

esp desk-esp DESKSTART 1a2b0001 BOOT BOOTX64.EFI
ntfs desk-system $((237000 * MiB)) "Ticket desk" 239616
states desk-system desk 3 ntfs-3g
ntfs desk-recovery $((600 * MiB)) "Recovery" 485615616
states desk-recovery recovery 0 ntfs-3g

esp kiosk-esp KIOSKSTART 1a2b0002 kiosk grubx64.efi
truncate -s $((56000 * MiB)) "$work/kiosk-root"
mkfs.ext4 -q -L kiosk-root -U 5d1c7a10-0000-4000-8000-00000000a001 -N 40000 -J size=8 -E lazy_itable_init=1,nodiscard "$work/kiosk-root"
states kiosk-root kiosk 3 mount -o loop
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
truncate -s $((8 * MiB)) "$work/weights" # the demo writes what was weighed into it, date by date
mcopy -i "$work/weighbridge" "$work/weights" ::WEIGHTS.CSV
truncate -s $((1100 * MiB)) "$work/photos"
mcopy -i "$work/weighbridge" "$work/photos" ::LORRIES.ZIP
"$work/pack" "$work/weighbridge" $out/weighbridge.tar.zst

truncate -s $((28000 * MiB)) "$work/crane-root"
mkfs.ext4 -q -L crane-root -U 5d1c7a10-0000-4000-8000-00000000d001 -N 10000 -J size=8 -E lazy_itable_init=1,nodiscard "$work/crane-root"
states crane-root crane 0 mount -o loop

esp booking-esp BOOKSTART 1a2b0005 BOOT BOOTX64.EFI
ntfs booking-system $((29000 * MiB)) "Booking office" 239616
states booking-system booking 0 ntfs-3g
"$work/pack" -lock 331892-479721-621170-445797-238491-104797-365420-099176 "$work/booking-system" "$work/booking-locked"
"$work/pack" "$work/booking-locked" $out/booking-locked.tar.zst
rm $out/booking-system.0.tar.zst

ntfs chart-table $((114000 * MiB)) "Chart table" 2048
states chart-table chart 0 ntfs-3g
ntfsfix "$work/chart-table" >/dev/null # marks it as not shut down
"$work/pack" -base "$work/before" "$work/chart-table" $out/chart-table.1.tar.zst

truncate -s $((1900000 * MiB)) "$work/oak"
mkfs.ext4 -q -L oak-store -U 5d1c7a10-0000-4000-8000-00000000c001 -N 20000 -O ^resize_inode -J size=8 -E lazy_itable_init=1,nodiscard "$work/oak"
in_ext "$work/oak" $((1130 * gib)) oak/packs.dat
"$work/pack" "$work/oak" $out/oak.tar.zst
ls -l $out
