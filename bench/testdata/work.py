"""The same work again and again for some seconds, some thirty calls deep;
prints how long it took each time."""
import sys
import time


def count(n):
    x = 0
    for i in range(n):
        x = (x * 31 + i) % 1000003
    return x


def deep(depth, n):
    return deep(depth - 1, n) if depth else count(n)


took = []
begin = time.perf_counter()
end = begin + float(sys.argv[1])
while begin < end:
    deep(30, 200000)
    now = time.perf_counter()
    took.append(now - begin)
    begin = now
print(*took)
