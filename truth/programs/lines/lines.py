# Spends its time on the marked lines; see lines.c.
import sys


def press(n):
    ink = 1.0

    for i in range(n):  # hot

        ink += 1 / (ink + i) + 1 / (ink + 2)  # hot

    return ink


for _ in range(8):
    press(int(sys.argv[1]) if len(sys.argv) > 1 else 700000)
