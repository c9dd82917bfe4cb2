"""Writes notes as an instrument reads them."""
import pitchwork

KEYS = {}


def key_of(instrument):
    key = KEYS.get(instrument.name)
    if key is None:
        key = KEYS[instrument.name] = pitchwork.key(instrument.shift)
    return key


def bar(notes, instrument):
    key = key_of(instrument)
    pitches = bytes(n[2] + instrument.shift for n in notes)
    spelled = pitchwork.spell(pitches, key)
    return [(beat, spelled[i], length) for i, (_, beat, _, length) in enumerate(notes)]
