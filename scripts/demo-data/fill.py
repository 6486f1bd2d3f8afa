#!/usr/bin/env python3
"""Fills a folder with the invented files of one machine at one date.

usage: fill.py FOLDER MACHINE DATE   (DATE is 0 to 3)
"""
import os
import random
import struct
import sys

root, machine, date = sys.argv[1], sys.argv[2], int(sys.argv[3])
DAY = 86400
# when the files of each date were written: before its twin was taken
WRITTEN = 1788000000 + {0: 0, 1: 40 * DAY, 2: 75 * DAY, 3: 89 * DAY}[date]
PEOPLE = ["Maud Ellingsen", "Joris Haverkate", "Ines Tarrow", "Pell Okonja", "Signe Arvo", "Tam Leclair"]
ISLES = ["Skarnholm", "Little Ebb", "Grey Tern", "Westhaven", "Ostrey", "Kelp Point"]
BOATS = ["MS Ternfoot", "MS Eider", "MS Saltwort", "MS Old Gannet"]


def write(name, text, seed=None):
    path = os.path.join(root, name)
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as f:
        f.write(text if isinstance(text, bytes) else text.encode())


def remove(name):
    os.remove(os.path.join(root, name))


def ledger(seed, rows):
    r = random.Random(seed)
    return "date;boat;from;to;passengers;bicycles;fare\n" + "".join(
        f"2026-{r.randint(1, 12):02}-{r.randint(1, 28):02};{r.choice(BOATS)};{r.choice(ISLES)};{r.choice(ISLES)};"
        f"{r.randint(0, 180)};{r.randint(0, 30)};{r.randint(300, 4200) / 100:.2f}\n" for _ in range(rows))


def picture(seed, size):
    return b"P6 invented picture\n" + random.Random(seed).randbytes(size)


if date == 0:
    if machine == "desk":
        for year in (2024, 2025, 2026):
            for q in (1, 2, 3, 4):
                write(f"Tickets/{year}/quarter-{q}.csv", ledger(f"{year}{q}", 2500))
        for i in range(4):
            write(f"Users/Maud/Pictures/harbour-{i}.ppm", picture(i, 120_000))
        for p in PEOPLE:
            write(f"Users/Maud/Letters/{p.replace(' ', '-')}.txt", f"Dear {p},\n\n" + ledger(p, 200))
        write("Users/Maud/timetable-winter.txt", ledger("winter", 400))
        write("pagefile.sys", random.Random("page").randbytes(300_000))
        for year in (2019, 2021, 2023, 2025):
            write(f"Archive/{year}.zip", b"")
    elif machine == "booking":
        for i, p in enumerate(PEOPLE):
            write(f"Users/Signe/Bookings/{p.replace(' ', '-')}.csv", ledger(f"booking{i}", 300))
        write("Users/Signe/Pictures/jetty.ppm", picture(77, 60_000))
        write("Users/Signe/bicycles-2026.csv", ledger("bicycles", 900))
        write("Windows/System32/drivers/etc/hosts", "127.0.0.1 localhost\n")
        write("pagefile.sys", b"")
        write("hiberfil.sys", bytes(4096))
    elif machine == "kiosk":
        write("etc/hostname", "kiosk-harbour\n")
        write("etc/fstab", "LABEL=kiosk-root / ext4 defaults 0 1\nLABEL=kiosk-swap none swap sw 0 0\n")
        for i, boat in enumerate(BOATS):
            write(f"srv/kiosk/boards/{boat.replace(' ', '-').lower()}.txt", ledger(boat, 800))
            write(f"srv/kiosk/pictures/quay-{i}.ppm", picture(100 + i, 90_000))
        write("srv/kiosk/timetable-winter.txt", ledger("winter", 400))
        write("srv/kiosk/fares-2026.csv", ledger("fares", 600))
        for i in range(300):
            write(f"var/log/kiosk/{i:03}.log", ledger(i, 12))
    elif machine == "purser":
        write("etc/hostname", "purser-laptop\n")
        for p in PEOPLE:
            write(f"home/pell/crew/{p.replace(' ', '-')}.txt", ledger(p, 500))
    elif machine == "manifests":
        for boat in BOATS:
            for m in range(1, 7):
                write(f"{boat.replace(' ', '-')}/2026-{m:02}.csv", ledger(f"{boat}{m}", 700))
        for year in range(2019, 2025):
            write(f"scans-{year}.zip", b"")
    elif machine == "recovery":
        write("Recovery/start.bin", picture("recovery", 200_000))
        write("Recovery/system.img", b"")
    elif machine == "crane":
        write("etc/hostname", "crane\n")
        write("srv/crane/limits.csv", ledger("crane", 300))
    elif machine == "chart":
        write("Charts/skarnholm.txt", ledger("chart", 500))
        write("Charts/soundings.dat", b"")
elif date == 1:
    if machine == "desk":
        write("Tickets/2026/quarter-4.csv", ledger("20264b", 3100))
        write("Users/Maud/Pictures/harbour-storm.ppm", picture(50, 120_000))
        remove("Users/Maud/timetable-winter.txt")
    elif machine == "kiosk":
        remove("srv/kiosk/timetable-winter.txt")
        write("srv/kiosk/notice-storm.txt", "No boat to Grey Tern on Thursday. Signed, Signe Arvo\n" + ledger("storm", 100))
        write("srv/kiosk/fares-2026.csv", ledger("fares b", 640))
    elif machine == "manifests":
        write("MS-Eider/2026-07.csv", ledger("eider7", 900))
    elif machine == "purser":
        write("home/pell/crew/Rota.txt", ledger("rota", 300))
elif date == 2:
    if machine == "desk":
        write("Tickets/2027/quarter-1.csv", ledger("20271", 900))
        remove("Users/Maud/Pictures/harbour-2.ppm")
    elif machine == "kiosk":
        write("srv/kiosk/timetable-spring.txt", ledger("spring", 500))
        remove("srv/kiosk/boards/ms-old-gannet.txt")
elif date == 3:  # after the newest twin
    if machine == "desk":
        write("Tickets/2027/quarter-1.csv", ledger("20271 later", 1200))
    elif machine == "kiosk":
        write("srv/kiosk/notice-crane.txt", "The crane is out of order until Monday. Signed, Signe Arvo\n")


def made(path):
    """Gives what NTFS says was made today the time when it was written."""
    try:
        now, = struct.unpack_from("<Q", os.getxattr(path, "system.ntfs_times"))
    except OSError:
        return  # another file system
    then = (WRITTEN + 11644473600) * 10**7  # hundreds of nanoseconds since 1601
    if now > then:
        os.setxattr(path, "system.ntfs_crtime", struct.pack("<Q", then))


for folder, _, names in os.walk(root, topdown=False):
    for path in [os.path.join(folder, n) for n in names] + [folder]:
        if os.path.lexists(path) and os.lstat(path).st_mtime > WRITTEN:
            os.utime(path, (WRITTEN, WRITTEN))
        made(path)
