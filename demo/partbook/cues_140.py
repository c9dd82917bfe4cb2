"""Cues: what others play before a long rest ends."""


def add(full, player, bars):
    return bars
