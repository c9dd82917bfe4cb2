"""Looks at the clock all the time, some thirty calls deep, and prints the
longest times in microseconds between two looks: as many as were asked for."""
import sys
import time


def look(seconds, most):
    gaps = []
    clock = time.perf_counter_ns
    before = clock()
    end = before + int(seconds * 1e9)
    while before < end:
        now = clock()
        if now - before > 1500:
            gaps.append(now - before)
            now = clock()
        before = now
    gaps.sort(reverse=True)
    print(*(g / 1000 for g in gaps[:most]))


def deep(depth, *args):
    return deep(depth - 1, *args) if depth else look(*args)


deep(30, float(sys.argv[1]), int(sys.argv[2]))
