"""Loads and compiles what play needs, before anybody plays."""

import numpy as np

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.source import ArraySource
from mivlo.core.model import Group, LedgerEntry, Track
from mivlo.core.moves import MOVE_KINDS, DynamicMove

__all__ = ["warm_up"]

RATE_HZ = 48_000.0


def warm_up() -> None:
    """Run every kind of move once, in mono and stereo, live and with a change."""
    kinds = [model for model in MOVE_KINDS.values()]
    moves = [
        model.model_validate(
            {"hz": 1_000.0} if "hz" in model.model_fields and model.model_fields["hz"].is_required() else {}
        )
        for model in kinds
    ]
    triggered = [
        move.model_copy(update={"trigger": trigger, "detection": "peak"})
        for move in moves
        if isinstance(move, DynamicMove)
        for trigger in ("after-stroke", "sudden")
    ]
    ledger = tuple(LedgerEntry(id=str(index), move=move) for index, move in enumerate([*moves, *triggered]))
    sources = {"mono": ArraySource(np.zeros((1, 9_600))), "stereo": ArraySource(np.zeros((2, 9_600)))}
    tracks = tuple(Track(id=name, audio_id=name, ledger=ledger) for name in sources)
    mix = Mix(tracks=tracks, master=Group(id="mix", ledger=ledger[:1], phase="linear"))
    player = Player(mix, sources.__getitem__, start_frame=0, sample_rate_hz=RATE_HZ)
    player.render(1_024)
    player.apply(mix.model_copy(update={"tracks": tracks[:1], "dim": True}))
    player.render(1_024)
