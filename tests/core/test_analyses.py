"""The contract of every analysis: what it hangs on is its address, what it gives can be kept, read again and shown."""

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pydantic import BaseModel, TypeAdapter

from mivlo.core.analyses.base import Need, Rendering, Work, key_of
from mivlo.core.analyses.ear_map import who_plays
from mivlo.core.analyses.needs import needs_of
from mivlo.core.analyses.registry import ANALYSES, foreseen
from mivlo.core.analyses.sounds import sound_behind, sound_into
from mivlo.core.engine.source import ArraySource, Source, open_source
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.model import RecordedSession

RATE = 48_000
SOUNDS = {str(number) * 32: np.random.default_rng(number).standard_normal((1 + number, 3 * RATE)) for number in (0, 1)}
EVIDENCE = {"kind": "whistle", "hz": 1_000.0, "q": 20.0, "excess_db": 6.0, "ring_s": None, "start_s": 0.5,
            "end_s": 3.0, "times": [[1.0, 2.0]], "behaviour": "steady"}  # fmt: skip
# What is asked beside strip and stretch, of those that want more.
MORE: dict[str, dict[str, Any]] = {
    "picture": {"place": {"time_zoom": 3}},
    "cure": {"entry_id": "cut"},
    "loss": {"entry_id": "plain"},
    "pin-answers": {"hz": 800.0, "width_octaves": 0.2},
    "move-in-mix": {"entry_id": "plain"},
    "came-back": {"back_id": "kick"},
    "likeness": {"towards": "organ"},
    "side-picture": {"place": {"time_zoom": 3}, "shows": "difference"},
    "masking": {"strip_ids": ["kick", "band"]},
    "pile-up": {"cuts": {"kick": {"kind": "low-cut", "hz": 40.0}}},
}

# Who cannot be asked, and why.
REFUSED = {
    **{(name, one): "not in this ledger" for name in ("cure", "loss", "move-in-mix") for one in ("band", "mix")},
    **{("file-faults", one): "not in this session" for one in ("band", "mix")},
    **{("came-back", one): "not in this session" for one in ("band", "mix")},
    ("pressure", "band"): "let stand-ins be drafted",
}


def session(**of_kick: Any) -> RecordedSession:
    cut = {"id": "cut", "move": {"kind": "bell", "hz": 1_000.0, "gain_db": -6.0, "q": 8.0}, "evidence": EVIDENCE}
    plain = {"id": "plain", "move": {"kind": "bell", "hz": 300.0, "gain_db": -3.0}}
    later = {"id": "later", "move": {"kind": "compressor", "threshold_db": -40.0, "stand_in": True}}
    kick = {"id": "kick", "name": "Kick", "role": "kick", "audio_id": "0" * 32, "start_frame": 12_000,
            "ledger": [cut, plain, later]} | of_kick  # fmt: skip
    organ = {"id": "organ", "name": "Organ", "role": "keys", "audio_id": "1" * 32, "group_id": "band"}
    facts = {"original_name": "x.wav", "format": "WAV", "subtype": "PCM_24", "original_rate_hz": RATE}
    audio = {
        one: {"id": one, "n_channels": len(x), "n_frames": x.shape[1], "original_frames": x.shape[1], **facts}
        for one, x in SOUNDS.items()
    }
    return RecordedSession.model_validate(
        {"id": "s", "sample_rate_hz": RATE, "tracks": [kick, organ], "groups": [{"id": "band", "name": "Band"}],
         "audio": audio}
    )  # fmt: skip


class Kept:
    """Computes needs first, keeps results as they are kept: as JSON, and files in a folder of the key."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.results: dict[str, str] = {}

    def result(self, need: Need) -> Any:
        return need.analysis.adapter().validate_json(self.results[need.key])

    def open(self, audio_id: str) -> Source:
        return ArraySource(0.1 * SOUNDS[audio_id]) if audio_id in SOUNDS else self.rendered(audio_id)

    def rendered(self, audio_id: str) -> Source:
        return open_source(self.folder / audio_id / "session.npy")

    def computed(self, need: Need) -> str:
        if need.key not in self.results:
            for one in needs_of(need.analysis, need.params):
                self.computed(one)
            folder = self.folder / need.key
            folder.mkdir()
            told: list[float] = []
            work = Work(self.open, self.result, lambda one: self.folder / one.key, folder, told.append)
            result = need.analysis.analyse(work, type(need.params).model_validate_json(need.params.model_dump_json()))
            assert any(folder.iterdir()) == need.analysis.writes_files
            assert told == sorted(told)
            self.results[need.key] = need.analysis.adapter().dump_json(result).decode()
        return self.results[need.key]


@pytest.fixture(scope="module")
def kept(tmp_path_factory) -> Kept:
    return Kept(tmp_path_factory.mktemp("kept"))


def asked_of(name: str, strip_id: str) -> BaseModel:
    asked = ANALYSES[name].asked
    of_strip = {"strip_id": strip_id} if "strip_id" in asked.model_fields else {}
    return asked.model_validate(of_strip | MORE.get(name, {}))


ASKED = [name for name, one in ANALYSES.items() if one.is_asked_for and name != "yield"]


@pytest.mark.parametrize("strip_id", ["kick", "band", "mix"])
@pytest.mark.parametrize("name", ASKED)
def test_what_is_asked_is_computed_from_figures_alone_kept_as_json_and_shown(kept: Kept, name: str, strip_id: str):
    analysis, now = ANALYSES[name], session()
    refused = REFUSED.get((name, strip_id))
    if refused is not None:
        with pytest.raises(NotFoundError, match=refused):
            analysis.question(now, asked_of(name, strip_id), lambda _: None)
        return
    asked = asked_of(name, strip_id)
    need = Need(analysis, analysis.question(now, asked, lambda _: None))
    first = kept.computed(need)
    again = analysis.adapter().dump_json(kept.result(need)).decode()
    assert json.loads(again) == json.loads(first)
    shown = analysis.show(now, asked, need.params, kept.result(need))
    adapter = TypeAdapter(analysis.shown or analysis.result)
    assert adapter.dump_json(adapter.validate_json(adapter.dump_json(shown))) == adapter.dump_json(shown)
    # Another version of the analysis is another product; every figure is part of the address.
    key = need.key
    with pytest.MonkeyPatch.context() as changed:
        changed.setattr(type(analysis), "version", analysis.version + 1)
        assert need.key != key
    assert set(json.loads(need.params.model_dump_json())) == set(type(need.params).model_fields)


def test_a_clash_that_is_found_can_be_yielded_to(kept: Kept):
    now = session(gain_db=-20.0)
    ensemble, yields = ANALYSES["ensemble"], ANALYSES["yield"]
    need = Need(ensemble, ensemble.question(now, ensemble.asked(), lambda _: None))
    with pytest.raises(NotFoundError, match="ask for the ensemble first"):
        yields.question(now, yields.asked(clash_id="x"), lambda _: None)
    kept.computed(need)
    shown = ensemble.show(now, ensemble.asked(), need.params, kept.result(need))
    clash = next(one for one in shown.clashes if one.by is not None)
    assert (clash.hidden, clash.by) == ("kick", "band")
    asked = yields.asked(clash_id=clash.id)
    drafted = Need(yields, yields.question(now, asked, kept.result))
    kept.computed(drafted)
    view = yields.show(now, asked, drafted.params, kept.result(drafted))
    assert (view.strip_id, view.entry.clash.front) == ("band", "kick")
    assert view.entry.move.gain_db < 0 if hasattr(view.entry.move, "gain_db") else view.entry.move.depth_db < 0


def test_what_does_not_change_a_result_does_not_change_its_address():
    def keys(now: RecordedSession, name: str) -> set[str]:
        return {key_of(one, params) for one, _, params in foreseen(now) if one.name == name}

    plain = session()
    by_track = ("waveform", "picture", "spectrum", "suspects", "pitch")
    for change in ({"gain_db": -9.0}, {"pan": 0.3}, {"name": "Drum"}, {"solo": True}, {"ledger": []}):
        for name in by_track:
            assert keys(session(**change), name) == keys(plain, name), (change, name)
    for change in ({"gain_db": -9.0}, {"pan": 0.3}, {"name": "Drum"}):
        for name in ("cure", "loss"):
            assert keys(session(**change), name) == keys(plain, name), (change, name)
        assert [one.map for one in who_plays(session(**change))] == [one.map for one in who_plays(plain)]
    assert keys(session(keepers=[{"low_hz": 900, "high_hz": 1_100}]), "suspects") != keys(plain, "suspects")
    assert keys(session(role="snare"), "suspects") != keys(plain, "suspects")
    assert keys(session(gain_db=-9.0), "ensemble") != keys(plain, "ensemble")


def test_each_cure_and_each_loss_of_a_strip_is_told_at_its_own_move(tmp_path):
    """All of a strip are measured at once; noise holds no whistle, and where nothing is cut nothing is gone."""
    kept, other = Kept(tmp_path), EVIDENCE | {"hz": 4_000.0, "q": 20.0}
    ledger = [
        {"id": "deep", "move": {"kind": "bell", "hz": 1_000.0, "gain_db": -18.0, "q": 3.0}, "evidence": EVIDENCE},
        {"id": "none", "move": {"kind": "bell", "hz": 4_000.0, "gain_db": -0.1, "q": 8.0}, "evidence": other},
    ]
    now = session(ledger=ledger)

    def told(name: str, entry_id: str) -> Any:
        analysis = ANALYSES[name]
        asked = analysis.asked(strip_id="kick", entry_id=entry_id)
        need = Need(analysis, analysis.question(now, asked, lambda _: None))
        kept.computed(need)
        return analysis.show(now, asked, need.params, kept.result(need))

    assert told("cure", "deep").region_lost > 0.3 > told("cure", "none").region_lost
    assert told("loss", "deep").region_lost > 0.3 > told("loss", "none").region_lost
    assert len(kept.results) == 3  # one rendering, all cures, all losses
    gone = now.with_strip("kick", lambda strip: {"ledger": strip.ledger[:1], "start_frame": 100 * RATE})
    with pytest.raises(ParameterError, match="where it was found"):
        ANALYSES["cure"].question(gone, ANALYSES["cure"].asked(strip_id="kick", entry_id="deep"), lambda _: None)


def test_sounds_are_files_where_they_can_be_and_renderings_where_they_must(kept: Kept):
    now = session()
    kick, band = now.tracks[0], now.groups[0]
    assert sound_into(now, kick)[0].rendering is None
    into, start = sound_into(now, band)
    assert (start, into.n_frames, into.n_channels, into.rendering.what) == (0, 3 * RATE, 2, "mix")
    assert sound_behind(now, band) == sound_into(now, band)  # it has no moves
    behind, start = sound_behind(now, kick)
    assert (start, behind.n_frames, behind.n_channels) == (12_000, 3 * RATE, 1)
    assert isinstance(behind.rendering, Rendering)
    (need,) = needs_of(ANALYSES["pitch"], ANALYSES["pitch"].params(sound=behind, sample_rate_hz=RATE))
    kept.computed(need)
    treated = kept.rendered(behind.audio_id).read(0, 3 * RATE)
    assert 0.0 < np.abs(treated - 0.1 * SOUNDS["0" * 32]).max() < 0.5
