"""Partbook pulls every player's part out of a full score."""
import sys

import cues
import layout
import rests
import score
import transpose


def extract(full, player):
    """All that one player plays, bar by bar."""
    for bar in full.bars:
        yield bar.number, bar.of(player)


def pull(full, player):
    bars = []
    for number, notes in extract(full, player):
        bars.append((number, transpose.bar(notes, player.instrument)))
    bars = rests.merge(bars)
    return layout.pages(cues.add(full, player, bars), player)


def main(copies):
    full = score.make(players=12, bars=220)
    total = 0
    for _ in range(copies):
        for player in full.players:
            for page in pull(full, player):
                total += len(page)
    print("pulled", copies, "times", len(full.players), "parts,", total, "characters")


if __name__ == "__main__":
    main(int(sys.argv[1]))
