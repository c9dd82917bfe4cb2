"""A fixed amount of work, some thirty calls deep; prints how long it took."""
import sys
import time


def count(n):
    x = 0
    for i in range(n):
        x = (x * 31 + i) % 1000003
    return x


def deep(depth, n):
    return deep(depth - 1, n) if depth else count(n)


begin = time.perf_counter()
for _ in range(int(sys.argv[1])):
    deep(30, 20000)
print(time.perf_counter() - begin)
