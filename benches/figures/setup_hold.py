"""Setup and hold extremes of an 8-bit bus (bits 0 to 7) against its clock (bit 8).

What an engineer would write: vectorised, one pass per question. Prints the shortest time of three
runs in seconds, reading the file left out, and both minima in samples.
"""

import sys
import time

import numpy as np


def extremes(samples):
    clock = (samples >> 8) & 1
    rises = np.flatnonzero(np.diff(clock.astype(np.int8)) == 1) + 1
    bus = samples & 0xFF
    changes = np.flatnonzero(np.diff(bus) != 0) + 1
    before = np.searchsorted(changes, rises, side="right") - 1
    setup = (rises - changes[before])[before >= 0]
    after = np.searchsorted(changes, rises, side="left")
    inside = after < len(changes)
    hold = changes[after[inside]] - rises[inside]
    return setup.min(), hold.min()


samples = np.fromfile(sys.argv[1], dtype="<u2")
best = float("inf")
for _ in range(3):
    start = time.perf_counter()
    setup, hold = extremes(samples)
    best = min(best, time.perf_counter() - start)
print(best, setup, hold)
