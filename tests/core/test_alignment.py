"""Two recordings of one source: shift and polarity against what was planted; a track that came back from elsewhere."""

import numpy as np
import pytest
from scipy.signal import fftconvolve

from mivlo.core.alignment import offset_between, placed, relation_between
from mivlo.core.analyses.base import Need
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.engine.mix import mix_of_session
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import MivloError, ParameterError
from mivlo.core.loudness import integrated_loudness
from mivlo.core.model import RecordedSession
from mivlo.core.model.intents import apply_all
from mivlo.core.model.intents.stand_ins import CameBack, RemoveStandIns
from mivlo.core.model.intents.strips import SetTrack

from .phrases import RATE
from .planted import played, run, through
from .test_analyses import Kept
from .test_pressure import LATER, struck

PROGRAMS = (0, 24, 25, 40, 52, 56, 65, 73, 105, 21)


def level(x: np.ndarray) -> float:
    return float(np.sqrt(np.mean(x**2)))


def room(x: np.ndarray, random: np.random.Generator) -> np.ndarray:
    t = np.arange(int(0.3 * RATE)) / RATE
    answer = random.standard_normal(len(t)) * np.exp(-6.9 * t / random.uniform(0.2, 0.5))
    answer[: int(0.002 * RATE)] = 0.0
    answer *= 10 ** (random.uniform(-12, -4) / 20) / np.sqrt(np.sum(answer**2))
    answer[0] = 1.0
    return fftconvolve(x, answer)[: len(x)]


def microphones(index: int, *, one_source: bool = True, tone: bool = False):
    """Return what two microphones hear, by how many frames the second one is later, and whether it is upside down."""
    random = np.random.default_rng(index)
    n = 4 * RATE
    source, other, *spills = (played(PROGRAMS[(index + 3 * k) % len(PROGRAMS)])[0, :n] for k in range(4))
    if tone:
        t = np.arange(n) / RATE
        source = sum(np.sin(2 * np.pi * 233.0 * k * t + k) / k for k in range(1, 4))
    shift, flipped = int(random.integers(-380, 381)), bool(random.random() < 0.5)
    heard = []
    for sound in (source, source if one_source else other[::-1]):  # or else both play the same notes
        bells = [(float(random.uniform(100, 6_000)), float(random.uniform(-6, 6)), 1.0) for _ in range(2)]
        own = through(room(sound, random)[None], bells)[0]
        heard.append(own / level(own))
    if one_source:
        heard[1] = np.roll(heard[1], shift) * (-1.0 if flipped else 1.0)
    for k, own in enumerate(heard):
        for spill in spills:
            late = np.roll(room(spill, random), int(random.integers(0, 480)))
            own = own + late / level(late) * 10 ** (random.uniform(-12, -6) / 20)
        heard[k] = own + 0.1 * random.standard_normal(n)
    return heard, shift, flipped


def relation(heard: list[np.ndarray]):
    places = (placed(ArraySource(x[None]), start_frame=0, session_frames=len(x), sample_rate_hz=RATE) for x in heard)
    return relation_between(*places, sample_rate_hz=RATE)


def test_shift_and_polarity_of_one_source_are_told_within_a_tenth_of_a_millisecond_through_rooms_and_filters():
    right = 0
    for index in range(20):
        heard, shift, flipped = microphones(index)
        told = relation(heard)
        near = abs(told.shift_frames - shift) <= 1e-4 * RATE and told.flipped == flipped
        right += near and told.is_sure
    assert right >= 18
    assert not any(relation(microphones(index, tone=True)[0]).is_sure for index in range(5))


def test_what_only_spills_into_both_is_not_one_source():
    assert not any(relation(microphones(index, one_source=False)[0]).is_one_source for index in range(15))


def test_silence_and_what_is_too_short_have_no_relation():
    for x in (np.zeros(RATE), np.ones(10)):
        assert not relation([x, x]).is_one_source


def later_of(x: np.ndarray, frames: int) -> np.ndarray:
    """Return a sound as it comes back from a compressor, louder, behind a delay."""
    return np.pad(run(x, LATER), ((0, 0), (frames, 0)))[:, : x.shape[1]]


@pytest.mark.parametrize("frames", [777, -12_345])
def test_what_came_back_is_aligned_to_the_sample(frames):
    x = played(25)
    back = later_of(x, frames) if frames > 0 else run(x, LATER)[:, -frames:]
    assert offset_between(ArraySource(x), ArraySource(back), sample_rate_hz=RATE) == frames
    with pytest.raises(ParameterError, match="same track"):
        offset_between(ArraySource(x), ArraySource(played(56)), sample_rate_hz=RATE)


def test_a_track_that_came_back_stands_in_for_what_was_done_to_it(tmp_path):
    drum, back = struck(), later_of(struck(), 100)
    sounds = {"0" * 32: ArraySource(drum), "1" * 32: ArraySource(back)}

    class KeptDrum(Kept):
        def open(self, audio_id: str):
            return sounds.get(audio_id) or self.rendered(audio_id)

    evidence = {"kind": "ring", "hz": 431.0, "q": 20.0, "excess_db": 20.0, "start_s": 0.0, "end_s": 8.0}
    cut = {"id": "cut", "move": {"kind": "bell", "hz": 431.0, "gain_db": -14.0, "q": 12.0}, "evidence": evidence}
    facts = {"original_name": "x.wav", "format": "WAV", "subtype": "PCM_24", "original_rate_hz": RATE}
    lengths = {"n_frames": 8 * RATE, "original_frames": 8 * RATE, "n_channels": 1}
    before = RecordedSession.model_validate({
        "id": "s", "sample_rate_hz": RATE, "audio": {one: {"id": one, **lengths, **facts} for one in sounds},
        "tracks": [{"id": "d", "audio_id": "0" * 32, "ledger": [cut]}, {"id": "b", "audio_id": "1" * 32}],
    })  # fmt: skip
    kept = KeptDrum(tmp_path)

    def answer(name: str, session: RecordedSession, **asked):
        analysis = ANALYSES[name]
        question = analysis.asked(**asked)
        need = Need(analysis, analysis.question(session, question, lambda _: None))
        kept.computed(need)
        return analysis.show(session, question, need.params, kept.result(need))

    told = answer("came-back", before, strip_id="d", back_id="b")
    assert (told.start_frame, told.later_frames) == (-100, 100)
    levels = [integrated_loudness(x, sample_rate_hz=RATE) for x in (drum, back)]
    assert told.louder_db == pytest.approx(levels[1] - levels[0])

    def with_it(holds_cuts: bool) -> RecordedSession:
        intent = CameBack(
            track_id="d", back_id="b", start_frame=-100, louder_db=told.louder_db, holds_cuts=holds_cuts
        )  # fmt: skip
        return apply_all(before, [intent])

    def heard(session: RecordedSession, **how) -> np.ndarray:
        mix = mix_of_session(session, **how)
        return np.concatenate(
            list(render_mix(mix, sounds.__getitem__, start=0, end=RATE, sample_rate_hz=RATE)), axis=1
        )[:1]  # fmt: skip

    now = with_it(holds_cuts=True)
    assert [track.id for track in now.tracks] == ["d"]
    assert now.stands_in()
    assert np.allclose(heard(now, stand_ins="acting"), back[:, 100 : 100 + RATE], atol=1e-9)
    cut_drum = heard(before.changed(tracks=before.tracks[:1]))
    assert np.array_equal(heard(now), cut_drum)
    assert np.array_equal(heard(now, stand_ins="resting"), cut_drum)
    rows = {holds: answer("pressure", with_it(holds), strip_id="d").rows[0] for holds in (True, False)}
    assert rows[True].back_db > rows[False].back_db + 3.0  # the cut is in neither of what came back
    assert rows[True].deeper is None  # no move acts on what is as it is
    assert apply_all(now, [RemoveStandIns()]).tracks[0].later is None
    with pytest.raises(MivloError, match="cannot be what came back of itself"):
        apply_all(before, [CameBack(track_id="d", back_id="d", start_frame=0, louder_db=0.0, holds_cuts=False)])
    with pytest.raises(MivloError, match="starts within its session"):
        apply_all(before, [SetTrack(track_id="d", fields={"start_frame": -1}, seen={"start_frame": 0})])
