"""Rests: bars without notes in a row become one."""


def merge(bars):
    out = []
    empty = 0
    for number, notes in bars:
        if not notes:
            empty += 1
            continue
        if empty:
            out.append((number - empty, ["rest %d" % empty]))
            empty = 0
        out.append((number, notes))
    return out
