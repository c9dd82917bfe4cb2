"""Writes notes as an instrument reads them, each for itself, so that a change
of key within a bar is possible."""
import pitchwork


def key_of(instrument):
    return pitchwork.key(instrument.shift)


def note(pitch, instrument):
    key = key_of(instrument)
    return pitchwork.spell(bytes([pitch + instrument.shift]), key)[0]


def bar(notes, instrument):
    return [(beat, note(pitch, instrument), length) for _, beat, pitch, length in notes]
