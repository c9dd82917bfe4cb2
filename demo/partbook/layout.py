"""Lays bars out on lines and pages, as text."""

WIDTH = 96
LINES = 10


def text(notes):
    parts = []
    for n in sorted(notes, key=beat):
        parts.append(n if isinstance(n, str) else "%s%d" % (n[1], n[2]))
    return " ".join(parts)


def beat(note):
    return -1 if isinstance(note, str) else note[0]


def lines(bars):
    line = ""
    for number, notes in bars:
        bar = "|%d %s" % (number, text(notes))
        if len(line) + len(bar) > WIDTH:
            yield line
            line = ""
        line += bar
    yield line


def pages(bars, player):
    page = [player.instrument.name]
    for line in lines(bars):
        page.append(line)
        if len(page) > LINES:
            yield "\n".join(page)
            page = [player.instrument.name]
    yield "\n".join(page)
