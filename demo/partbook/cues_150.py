"""Cues: what others play before a long rest ends."""


def loudest(full, number):
    best, most = None, 0
    for player in full.players:
        played = len(full.bars[number].of(player))
        if played > most:
            best, most = player, played
    return best


def add(full, player, bars):
    out = []
    for number, notes in bars:
        if notes and number and isinstance(notes[0], str):
            other = loudest(full, number - 1)
            if other is not None:
                out.append((number, ["cue " + other.instrument.name]))
        out.append((number, notes))
    return out
