"""What comes back behind a compressor, beside what its own gain trace says; and what a deeper cut holds down."""

import numpy as np
import pytest
from scipy.signal import lfilter

from mivlo.core.analyses.base import Need
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.engine.mix import mix_of_session
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.coming_back import Untreated, back_db, comes_back, loudness_change_db
from mivlo.core.finder.passages import passages_for
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.loudness import integrated_loudness
from mivlo.core.model import Evidence, Group, LedgerEntry, RecordedSession, Session, Track
from mivlo.core.model.intents import apply_all
from mivlo.core.model.intents.stand_ins import DraftStandIns, RemoveStandIns
from mivlo.core.moves.base import slice_bell
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.room import Room
from mivlo.core.processors.stage import Context

from .phrases import RATE
from .planted import played, run, through
from .test_analyses import Kept

LATER = Compressor(threshold_db=-34, ratio=6, attack_ms=4, release_ms=90, knee_db=4, makeup_db=9)


def test_what_comes_back_is_what_the_gain_of_the_compressor_says():
    errors = []
    for index, program in enumerate((0, 24, 25, 40, 52, 56, 65, 73)):
        random = np.random.default_rng(index)
        hz, q = float(random.uniform(400, 2_500)), float(random.uniform(10, 25))
        y = through(played(program), [(hz, 10.0, q)])
        off = run(y, Bell(hz=hz, gain_db=-12.0, q=q))  # 2 dB below its outline
        stage = LATER.stage("c", on=True, keepers=(), sample_rate_hz=RATE).make(1, RATE)
        n = off.shape[1] // 64 * 64
        on = stage.process(off[:, :n].copy(), Context(0))
        gain = 10 ** ((np.repeat(stage.trace().gain_db, SUBSTEP_FRAMES) + LATER.makeup_db) / 20)
        evidence = Evidence(kind="ring", hz=hz, q=q, excess_db=10.0, start_s=0.0, end_s=n / RATE)
        sources = ArraySource(off[:, :n]), ArraySource(on)
        moments = Untreated(ArraySource(y[:, :n]), offset_s=0.0, sample_rate_hz=RATE).moments_of(evidence)
        louder_db = loudness_change_db(*sources, sample_rate_hz=RATE)
        assert louder_db == pytest.approx(
            integrated_loudness(on, sample_rate_hz=RATE) - integrated_loudness(off[:, :n], sample_rate_hz=RATE)
        )
        told = back_db(*sources, evidence, moments, louder_db=louder_db, sample_rate_hz=RATE)
        s = slice_bell(hz, q * 10 ** (10 / 40), RATE)[0]
        band = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], off[0, :n]) ** 2
        inside = np.zeros(n, dtype=bool)
        for first, last in moments.frames:
            inside[first:last] = True
        expected = 10 * np.log10(np.sum((band * gain**2)[inside]) / np.sum(band[inside])) - louder_db
        errors.append(abs(told - expected))
    assert np.mean(np.array(errors) <= 0.5) >= 0.9


def struck(seconds: int = 8) -> np.ndarray:
    """Return strokes of broad noise, each with a ring of 431 Hz far below it that outlasts it."""
    random, n = np.random.default_rng(4), seconds * RATE
    x, t = np.zeros(n), np.arange(min(n, 8 * RATE)) / RATE
    ring = 0.02 * np.exp(-6.9 * t / 1.4) * np.sin(2 * np.pi * 431.0 * t)
    for start in range(0, n, RATE // 2):
        x[start : start + 1_920] += 0.4 * random.standard_normal(1_920) * np.hanning(1_920)
        x[start : start + len(ring)] += ring[: n - start]
    return x[None]


@pytest.mark.parametrize(("seconds", "start_s"), [(8, 0), (8, 40), (150, 0)])
def test_a_drums_ring_that_a_compressor_brings_back_is_held_down_by_the_cut_that_is_proposed(
    tmp_path, seconds, start_s
):
    drum_alone = ArraySource(struck(seconds))

    class KeptDrum(Kept):
        def open(self, audio_id: str):
            return drum_alone if audio_id == "0" * 32 else self.rendered(audio_id)

    def under_pressure(gain_db: float):
        evidence = {"kind": "ring", "hz": 431.0, "q": 20.0, "excess_db": 20.0}
        evidence |= {"start_s": start_s, "end_s": start_s + seconds}
        cut = {"id": "cut", "move": {"kind": "bell", "hz": 431.0, "gain_db": gain_db, "q": 12.0}, "evidence": evidence}
        later = {"kind": "compressor", "threshold_db": -44.0, "ratio": 8.0, "attack_ms": 2.0, "release_ms": 40.0}
        drum = {"id": "d", "audio_id": "0" * 32, "role": "snare", "start_frame": start_s * RATE,
                "ledger": [cut, {"id": "later", "move": later | {"stand_in": True}}]}  # fmt: skip
        facts = {"original_name": "x.wav", "format": "WAV", "subtype": "PCM_24", "original_rate_hz": RATE}
        lengths = {"n_frames": seconds * RATE, "original_frames": seconds * RATE}
        audio = {"0" * 32: {"id": "0" * 32, "n_channels": 1, **lengths, **facts}}
        now = RecordedSession.model_validate({"id": "s", "sample_rate_hz": RATE, "tracks": [drum], "audio": audio})
        analysis, asked = ANALYSES["pressure"], ANALYSES["pressure"].asked(strip_id="d")
        need = Need(analysis, analysis.question(now, asked, lambda _: None))
        kept.computed(need)
        shown = analysis.show(now, asked, need.params, kept.result(need))
        return next(row for row in shown.rows if row.entry_id == "cut")

    kept = KeptDrum(tmp_path)
    row = under_pressure(-14.0)
    assert row.comes_back
    assert row.back_db == pytest.approx(14.5, abs=0.3)  # of a long track, passages tell it
    assert "comes back by" in row.sentence
    assert row.deeper is not None
    assert row.deeper.gain_db == pytest.approx(-14.0 - row.deeper_by_db)
    held = under_pressure(row.deeper.gain_db)
    assert not held.comes_back
    assert held.excess_db < row.excess_db


def test_of_a_long_song_passages_are_heard_that_hold_every_fault():
    rate, n = 1_000, 240_000
    once = np.array([[181_200, 183_900]])
    bursts = np.array([[at, at + 60] for at in range(500, n, 30_100)])
    faults = [np.array([[0, n]]), once, bursts]
    passages = passages_for(faults, n, sample_rate_hz=rate)
    sound = passages.of(ArraySource(np.arange(n, dtype=float)[None])).samples[0]
    assert len(sound) <= 90 * rate
    assert np.ptp(passages.frames) > n / 2
    for spans in faults:
        heard = [sound[first:last] for first, last in passages.within(spans)]
        assert sum(len(one) for one in heard) >= min(np.sum(spans[:, 1] - spans[:, 0]), 8 * 60)
        assert all(any(a <= one[0] and one[-1] < b for a, b in spans) for one in heard)
        assert all(np.all(np.diff(one) == 1) for one in heard)
    # What is there all the time has its 20 s in the fewest passages: no more are rendered.
    enough = passages_for(faults[:1], n, sample_rate_hz=rate).frames
    assert np.sum(enough[:, 1] - enough[:, 0]) <= 4 * 11 * rate
    assert np.array_equal(passages_for(faults, 60 * rate, sample_rate_hz=rate).frames, [[0, 60 * rate]])


def test_it_comes_back_only_where_it_comes_up_and_stands_out():
    assert comes_back(1.5, 0.5)
    assert not comes_back(1.4, 5.0)
    assert not comes_back(3.0, -1.5)


def session_of(*tracks: Track) -> Session:
    return Session(id="s", sample_rate_hz=RATE, tracks=tracks)


def test_stand_ins_are_drafted_by_role_in_one_step_and_leave_no_trace_in_what_is_rendered():
    x = ArraySource(0.1 * np.random.default_rng(1).standard_normal((1, RATE)))
    voice = Track(id="v", audio_id="a", role="lead voice", ledger=(LedgerEntry(id="1", move=Bell(hz=900, gain_db=-3)),))
    twins = [Track(id=f"g{n}", audio_id="a", role="acoustic guitar", twin_id="t") for n in range(2)]
    plain = session_of(voice, *twins, Track(id="b", audio_id="a", role="bass"))
    drafted = apply_all(plain, [DraftStandIns(group_id="0" * 32)])
    labels = {track.id: [entry.move.kind for entry in track.ledger] for track in drafted.tracks}
    assert labels == {
        "v": ["bell", "compressor", "compressor"], "g0": ["compressor"], "g1": ["compressor"], "b": ["compressor"],
    }  # fmt: skip
    [room] = drafted.groups
    assert (room.stand_in, [entry.move.kind for entry in room.ledger]) == (True, ["room"])
    assert [len(track.sends) for track in drafted.tracks] == [1, 1, 1, 0]
    assert all(e.move.stand_in for track in drafted.tracks for e in track.ledger if e.move.kind == "compressor")
    assert apply_all(drafted, [DraftStandIns(group_id="1" * 32)]) == drafted  # nobody gets them twice
    assert apply_all(drafted, [RemoveStandIns()]) == plain

    def rendered(session: Session, **how) -> np.ndarray:
        mix = mix_of_session(session, **how)
        return np.concatenate(list(render_mix(mix, lambda _: x, start=0, end=RATE, sample_rate_hz=RATE)), axis=1)

    assert mix_of_session(drafted) == mix_of_session(plain)
    before = rendered(plain)
    assert np.array_equal(rendered(drafted, stand_ins="resting"), before)
    acting = rendered(drafted, stand_ins="acting")
    assert np.std(acting - before) > 0.1 * np.std(before)
    off = drafted.with_strip("v", lambda _: {"ledger_on": False})
    untreated = plain.with_strip("v", lambda _: {"ledger": ()})
    assert not np.array_equal(rendered(off, stand_ins="acting"), rendered(untreated))  # later comes to all alike
    assert np.array_equal(rendered(off, stand_ins="resting"), rendered(untreated))


def test_a_group_that_stands_in_is_muted_with_what_is_sent_there_until_it_is_wanted():
    group = Group(id="r", stand_in=True)
    assert mix_of_session(session_of().changed(groups=(group,)), stand_ins="resting").groups[0].mute
    assert mix_of_session(session_of().changed(groups=(group,))).groups == ()


def test_what_is_only_done_later_is_none_of_the_offcuts():
    x = ArraySource(0.3 * np.random.default_rng(2).standard_normal((1, RATE)))
    ledger = (LedgerEntry(id="1", move=LATER.model_copy(update={"stand_in": True})),)
    session = session_of(Track(id="v", audio_id="a", ledger=ledger))
    mix = mix_of_session(session, stand_ins="acting").model_copy(update={"offcuts_track_id": "v"})
    player = Player(mix, lambda _: x, start_frame=0, sample_rate_hz=RATE)
    assert np.max(np.abs(player.render(RATE // 2))) < 1e-12


def test_later_moves_act_on_what_is_not_treated_too_and_their_memory_counts_only_while_they_act():
    x = ArraySource(0.3 * np.random.default_rng(3).standard_normal((1, 4 * RATE)))
    moves = (
        DynamicBell(hz=900, threshold_db=-40, depth_db=-24, ratio=2, release_ms=100),
        Room(decay_s=8, stand_in=True),
    )
    track = Track(id="v", audio_id="a", ledger=tuple(LedgerEntry(id=str(n), move=one) for n, one in enumerate(moves)))

    def rendered(one: Track, how: str) -> np.ndarray:
        mix = mix_of_session(session_of(one), stand_ins=how)
        blocks = render_mix(mix, lambda _: x, start=3 * RATE, end=4 * RATE, sample_rate_hz=RATE)
        return np.concatenate(list(blocks), axis=1)

    assert np.array_equal(rendered(track, "resting"), rendered(track, "left-out"))
    off = track.model_copy(update={"ledger_on": False})
    assert not np.array_equal(rendered(off, "acting"), rendered(off, "left-out"))
