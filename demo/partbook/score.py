"""A full score: bars, and in each the notes of every player."""


class Instrument:
    def __init__(self, name, shift):
        self.name = name
        self.shift = shift  # in half tones from what sounds to what is written


class Player:
    def __init__(self, seat, instrument):
        self.seat = seat
        self.instrument = instrument


class Bar:
    def __init__(self, number):
        self.number = number
        self.notes = []

    def of(self, player):
        return [n for n in self.notes if n[0] == player.seat]


class Score:
    def __init__(self, players, bars):
        self.players = players
        self.bars = bars


INSTRUMENTS = [Instrument("reed in B flat", 2), Instrument("horn in F", 7), Instrument("strings", 0), Instrument("reed in E flat", 9)]


def make(players, bars):
    """A score that is made up, the same each time."""
    seats = [Player(i, INSTRUMENTS[i % len(INSTRUMENTS)]) for i in range(players)]
    x = 7
    out = []
    for number in range(bars):
        bar = Bar(number)
        for seat in range(players):
            for beat in range(8):
                x = (x * 1103515245 + 12345) % 2147483648
                if x % 5 and (number + seat) % 7:
                    bar.notes.append((seat, beat, 40 + x % 45, 1 + x % 3))
        out.append(bar)
    return Score(seats, out)
