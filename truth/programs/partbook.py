"""Python in every ordinary shape: loops, methods, comprehensions, generators,
async functions, exceptions in flight, callbacks from the interpreter's own C
code, a native library and callbacks from it, threads, another interpreter."""
import asyncio
import ctypes
import os
import sys
import threading
import time

# stack count: count < Part.bars < bars
# stack by_pitch: by_pitch < keys < main
# stack notes: notes < phrases < drain < main
# stack Rests.wait: Rests.wait < gather < ... < asynchronous < main
# stack unwinding: unwinding < caught < main
# stack ink: ink < ... < native < main
# stack weigh: weigh < ... < compare < ... < back < main
# stack page: page < run_thread < ...
# stack deep: deep < ... < recursion < main


def count(n):
    x = 0
    for i in range(n):
        x = (x * 31 + i) % 1000003
    return x


class Part:
    def bars(self, n):
        return [k for k in range(9)][-1] + count(n)


def bars():
    part = Part()
    for _ in range(10):
        part.bars(4000)


def by_pitch(note):
    x = note
    for i in range(60):
        x = (x * 17 + i) % 4099
    return x


def keys():
    for _ in range(4):
        sorted(range(150), key=by_pitch)


def notes(n):
    for i in range(n):
        x = i
        for k in range(80):
            x = (x * 13 + k) % 2003
        yield x


def phrases(n):
    yield from notes(n)


def drain():
    total = 0
    for x in phrases(700):
        total += x
    return total


class Rests:
    async def wait(self, n):
        x = 0
        for i in range(n):
            x = (x * 7 + i) % 9973
        return x


async def gather():
    rests = Rests()
    for _ in range(5):
        await rests.wait(4000)


def asynchronous():
    loop.run_until_complete(gather())


def unwinding(n):
    x = 0
    for i in range(n):
        x = (x * 11 + i) % 7919
    raise ValueError(x)


def caught():
    for _ in range(10):
        try:
            unwinding(3000)
        except ValueError:
            pass


def native():
    for _ in range(12):
        library.ink(20000)


WEIGH = ctypes.CFUNCTYPE(ctypes.c_long, ctypes.c_long, ctypes.c_long)


def weigh(a, b):
    x = a - b
    for i in range(40):
        x = (x * 5 + i) % 997
    return a - b


weigh_from_c = WEIGH(weigh)


def back():
    library.compare(weigh_from_c, 500)


def page(n):
    x = 0
    for i in range(n):
        x = (x * 3 + i) % 65521
    return x


def run_thread(spent):
    begin = time.thread_time_ns()
    for _ in range(8):
        page(5000)
    spent.append(time.thread_time_ns() - begin)


def threads():
    spent = []
    both = [threading.Thread(target=run_thread, args=(spent,)) for _ in range(2)]
    for t in both:
        t.start()
    for t in both:
        t.join()
    return sum(spent)


def bottom(n):
    x = 0
    for i in range(n):
        x = (x * 19 + i) % 49999
    return x


def deep(n):
    if n == 0:
        return bottom(20000)
    return deep(n - 1) + 1


def recursion():
    for _ in range(2):
        deep(400)


def witness(parts):
    """Has the interpreter's own profiler say how much each part takes."""
    import _lsprof  # what the module of the standard library is made of

    profiler = _lsprof.Profiler(time.thread_time_ns, 1e-9)
    for _ in range(12):
        profiler.enable()
        for part in parts.values():
            part()
        profiler.disable()
    for entry in profiler.getstats():
        name = getattr(entry.code, "co_qualname", "")  # not a method of that name
        if name in parts and entry.code.co_filename == __file__:
            print("witness", name, round(entry.totaltime * 1e9))


def main(seconds):
    parts = {"bars": bars, "keys": keys, "drain": drain, "asynchronous": asynchronous,
             "caught": caught, "native": native, "back": back, "recursion": recursion}
    if seconds == 0:
        witness(parts)
        return
    spent = dict.fromkeys(list(parts) + ["run_thread"], 0)
    while sum(spent.values()) < seconds * 1e9:
        for name, part in parts.items():
            begin = time.thread_time_ns()
            part()
            spent[name] += time.thread_time_ns() - begin
        spent["run_thread"] += threads()
    for name, t in spent.items():
        print("part", name, t)


library = ctypes.CDLL(os.path.join(sys.argv[2], "libink.so"))
library.compare.argtypes = [WEIGH, ctypes.c_long]
library.ink.argtypes = [ctypes.c_long]
library.ink.restype = ctypes.c_double
sys.setrecursionlimit(5000)
loop = asyncio.new_event_loop()
main(float(sys.argv[1]))
