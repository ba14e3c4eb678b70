#!/usr/bin/python3
"""Lines that the tests run, folder by folder, from gcovr's table; run by ./dev coverage.

Exit 1 where core is under 85 % or the window under 75 %.
"""
import collections
import csv
import sys

LEAST = {"core": 85.0, "app": 75.0}


def main(path):
    lines, run = collections.Counter(), collections.Counter()
    with open(path, newline="", encoding="utf-8") as table:
        for row in csv.DictReader(table):
            parts = row["filename"].split("/")
            for folder in {parts[0], "/".join(parts[:2])}:
                lines[folder] += int(row["line_total"])
                run[folder] += int(row["line_covered"])
    low = False
    for folder in sorted(lines):
        share = 100.0 * run[folder] / max(lines[folder], 1)
        wanted = LEAST.get(folder)
        low = low or (wanted is not None and share < wanted)
        print(f"{folder:24} {run[folder]:7} of {lines[folder]:7}  {share:5.1f} %" + (f"  (wanted: {wanted:.0f} %)" if wanted else ""))
    return 1 if low else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
