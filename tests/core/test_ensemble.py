"""Clashes, right of way, yields and proof: planted cases, bad cases, and the command."""

import json
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from scipy.signal import butter, sosfilt
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble import listening
from mivlo.core.ensemble.clashes import STRONG, find_clashes, regain
from mivlo.core.ensemble.contest import region_bands
from mivlo.core.ensemble.describe import as_plain, sentence, what_can_be_won
from mivlo.core.ensemble.erb_map import erb_map, with_hop
from mivlo.core.ensemble.listening import Heard, MixedTrack, full_scale_db_spl, hear, sampled
from mivlo.core.ensemble.proof import proof_sentence, prove
from mivlo.core.ensemble.right_of_way import first_order, yield_limit_db
from mivlo.core.ensemble.yielding import Contender, Region, Terms, draft_yield
from mivlo.core.errors import ParameterError
from mivlo.core.model import LedgerEntry, Track
from tests.core.phrases import phrase

RATE = 48_000
CELLO, BASS, FLUTE = 42, 32, 73


def band(
    low_hz: float, high_hz: float, db: float, *, seed: int, seconds: float = 4.0, on: float = 1.0, period_s: float = 1.0
) -> np.ndarray:
    """Return (1, frames) of noise in a band, on for a part of every period."""
    x = np.random.default_rng(seed).standard_normal(round(seconds * RATE))
    x = sosfilt(butter(4, [low_hz, high_hz], "bandpass", fs=RATE, output="sos"), x)
    x *= (np.arange(len(x)) / RATE) % period_s < on * period_s
    return (x / np.sqrt(np.mean(x[x != 0.0] ** 2)) * 10 ** (db / 20))[None]


def mapped(*sounds: np.ndarray, gains_db: tuple[float, ...] = ()) -> list[MixedTrack]:
    gains = gains_db or (0.0,) * len(sounds)
    return [
        MixedTrack(erb_map(ArraySource(one), start=0, end=one.shape[1], sample_rate_hz=RATE), gain_db=gain)
        for one, gain in zip(sounds, gains, strict=True)
    ]


def heard_of(*sounds: np.ndarray, gains_db: tuple[float, ...] = ()) -> Heard:
    tracks = mapped(*sounds, gains_db=gains_db)
    return hear(tracks, full_scale_db=full_scale_db_spl(tracks))


def test_a_planted_clash_is_named_with_direction_region_and_time():
    quiet, loud, aside = (
        band(300, 600, -30, seed=1),
        band(280, 700, -22, seed=2, on=0.5),
        band(3_000, 6_000, -35, seed=3),
    )
    clash = find_clashes(heard_of(quiet, loud, aside))[0]
    assert (clash.hidden, clash.by) == (0, 1)
    assert clash.strength >= STRONG
    common = np.log2(min(clash.high_hz, 600.0) / max(clash.low_hz, 300.0))
    assert common / np.log2(max(clash.high_hz, 600.0) / min(clash.low_hz, 300.0)) > 0.7  # of both together
    assert clash.share_of_time > 0.85  # of the time in which both play, the edges of each burst aside
    assert clash.loss_percent > 60
    # Half of every second; windows of 85 ms and more smear each edge.
    assert [round(end - start, 1) for start, end in clash.times] == pytest.approx([0.5] * 4, abs=0.2)
    assert [start % 1.0 for start, _ in clash.times[1:]] == pytest.approx([0.0] * 3, abs=0.1) or clash.times[1][
        0
    ] % 1.0 > 0.9
    assert clash.winnable_percent > 80
    assert "track 2 hides track 1" in sentence(clash, ["track 1", "track 2", "track 3"])
    assert (
        what_can_be_won(clash, ["1", "2", "3"]) == f"A cut can win back up to {clash.winnable_percent:.0f} % of that."
    )
    assert "cut in 2 alone" in what_can_be_won(replace(clash, winnable_percent=12.0), ["1", "2", "3"])


def test_the_fader_decides_who_hides_whom():
    sounds = band(300, 600, -24, seed=1), band(300, 600, -24, seed=2)
    for gains_db, wanted in (((0.0, 10.0), (0, 1)), ((10.0, 0.0), (1, 0))):
        clash = find_clashes(heard_of(*sounds, gains_db=gains_db))[0]
        assert (clash.hidden, clash.by) == wanted
    # As loud as each other: each hides the other about alike, and much less.
    both = find_clashes(heard_of(*sounds))
    strengths = {(one.hidden, one.by): one.strength for one in both}
    assert abs(strengths[0, 1] - strengths[1, 0]) < 0.1


def test_many_weak_ones_hide_together():
    victim = band(400, 800, -34, seed=9)
    others = [band(250 * 1.0 + 37 * k, 900 + 41 * k, -36, seed=k) for k in range(8)]
    clashes = [one for one in find_clashes(heard_of(victim, *others)) if one.hidden == 0]
    assert clashes[0].by is None
    assert clashes[0].loss_percent > 50
    assert "all others together hide" in sentence(clashes[0], [str(k) for k in range(9)])


def test_cases_without_a_clash():
    tone, silence = band(300, 600, -24, seed=1), np.zeros((1, 4 * RATE))
    assert find_clashes(heard_of(tone)) == []
    assert find_clashes(heard_of(silence, silence)) == []
    assert find_clashes(heard_of(tone, silence)) == []
    # Never together: each plays while the other is still.
    t = np.arange(tone.shape[1]) / RATE
    turn = (t % 2.0) < 1.0
    gap = ((t % 1.0) > 0.15) & ((t % 1.0) < 0.85)
    assert find_clashes(heard_of(tone * (turn & gap), band(300, 600, -14, seed=2) * (~turn & gap))) == []
    # Four octaves apart.
    assert all(one.strength < STRONG / 2 for one in find_clashes(heard_of(tone, band(6_000, 9_000, -24, seed=2))))
    # Far below the threshold of hearing beside another that sets the level: it does not play.
    assert find_clashes(heard_of(tone, band(300, 600, -110, seed=2))) == []


def test_the_same_sound_twice_is_said_to_be_the_same():
    tone = band(300, 900, -24, seed=1)
    clashes = find_clashes(heard_of(tone, 0.8 * tone))
    assert {(one.hidden, one.by) for one in clashes} >= {(0, 1), (1, 0)}
    assert all(one.same_sound for one in clashes)
    assert "no cut can decide it" in sentence(clashes[0], ["a", "b"])
    assert not what_can_be_won(clashes[0], ["a", "b"])
    assert not any(one.same_sound for one in find_clashes(heard_of(tone, band(300, 900, -20, seed=5))))


def test_mono_beside_stereo_and_what_is_panned_apart():
    voice, wide = band(500, 1_500, -28, seed=1), np.concatenate([band(500, 1_500, -24, seed=s) for s in (2, 3)])
    both = find_clashes(heard_of(voice, wide))[0]
    assert (both.hidden, both.by) == (0, 1)
    # What stands at one side is hidden by what stands there too, hardly by what stands at the other.
    tracks = mapped(voice, band(500, 1_500, -20, seed=2))

    def loss(pan: float) -> float:
        panned = [replace(tracks[0], pan=-1.0), replace(tracks[1], pan=pan)]
        heard = hear(panned, full_scale_db=90.0)
        return float(1.0 - heard.kept[0].sum() / heard.loudness[0].sum())

    assert loss(-1.0) > 0.6
    assert loss(1.0) < 0.1


def test_other_rates_are_heard_alike():
    sound = band(300, 600, -24, seed=1)
    at_48 = erb_map(ArraySource(sound), start=0, end=sound.shape[1], sample_rate_hz=RATE)
    # Every sample twice is the same below a tenth of the rate but for images high up.
    at_96 = erb_map(ArraySource(np.repeat(sound, 2, axis=1)), start=0, end=2 * sound.shape[1], sample_rate_hz=2 * RATE)
    low = slice(0, 30)
    means = [one.power[0, 5:-5, low].mean() for one in (at_48, with_hop(at_96, at_48.hop_s))]
    assert 10 * np.log10(means[1] / means[0]) == pytest.approx(0.0, abs=0.3)
    assert with_hop(at_48, 0.02).power[0].mean() == pytest.approx(at_48.power[0].mean(), rel=0.03)


def test_a_long_session_is_heard_at_fewer_moments_and_tells_the_same(monkeypatch):
    tracks = mapped(band(300, 600, -30, seed=1, seconds=12.0), band(280, 700, -22, seed=2, seconds=9.0))
    whole = hear(tracks, full_scale_db=90.0)
    monkeypatch.setattr(listening, "MOST_MOMENTS", sum(one.heard.power.shape[1] for one in tracks) // 3)
    fewer = sampled(tracks)
    heard = hear(fewer, full_scale_db=90.0)
    assert heard.hop_s == pytest.approx(4 * whole.hop_s)
    assert heard.loudness.shape[1] == -(-whole.loudness.shape[1] // 4)
    for one, other in zip(find_clashes(heard), find_clashes(whole), strict=True):
        assert (one.hidden, one.by, one.low_hz) == (other.hidden, other.by, other.low_hz)
        assert one.loss_percent == pytest.approx(other.loss_percent, abs=2.0)
        assert one.times[0] == pytest.approx(other.times[0], abs=4 * whole.hop_s)


def test_regain_grows_with_the_cut_and_a_small_cut_wins_little():
    # Common practice, no source: at equal levels 1 dB wins about a tenth, 4 dB a third (a one-band estimate).
    heard = heard_of(band(400, 700, -24, seed=1), band(400, 700, -24, seed=2))
    region = region_bands(400, 700)
    won = [regain(heard, 0, 1, region, cut_db=db) for db in (0.0, 1.0, 4.0, 12.0, 60.0)]
    assert won[0] == pytest.approx(0.0, abs=0.01)
    assert won[1] == pytest.approx(0.1, abs=0.04)
    assert won[2] == pytest.approx(0.33, abs=0.1)
    assert won == sorted(won)
    assert won[4] == pytest.approx(regain(heard, 0, 1, region), abs=0.01)


def test_first_order_and_limits():
    # Common practice, no source: the voice first, a finished backing last; 1 dB for that, 4 dB for a single track.
    order = first_order(["full backing", "keys", "lead voice", "bass"])
    assert (order[0], order[-1]) == (2, 0)
    assert sorted(order) == [0, 1, 2, 3]
    assert (yield_limit_db("full backing"), yield_limit_db("keys"), yield_limit_db(None)) == (1.0, 4.0, 4.0)


def contender(index: int, samples: np.ndarray, **fields: object) -> Contender:
    return Contender(index, f"t{index}", ArraySource(samples), 0.0, fields.get("role"), 0.0)  # type: ignore[arg-type]


def carve(sounds: list[np.ndarray], front: int, yielding: int, **options: object):
    """Return the clash between two, the draft for it, and its proof on the sound as the engine renders it."""
    role = options.pop("role", None)
    tracks = mapped(*sounds)
    full_scale_db = full_scale_db_spl(tracks)
    heard = hear(tracks, full_scale_db=full_scale_db)
    clash = next(one for one in find_clashes(heard) if (one.hidden, one.by) == (front, yielding))
    region = {"low_hz": clash.low_hz, "high_hz": clash.high_hz}
    drafted = draft_yield(
        tracks, heard, Region(**region, times=clash.times), Terms(**options), front=contender(front, sounds[front]),
        yielding=contender(yielding, sounds[yielding], role=role), full_scale_db=full_scale_db, sample_rate_hz=RATE,
    )  # fmt: skip
    strips = [Track(id=f"t{index}", audio_id=str(index)) for index in range(len(sounds))]
    strips[yielding] = strips[yielding].model_copy(update={"ledger": (LedgerEntry(id="y", move=drafted.move),)})
    blocks = render_track(
        Mix(tracks=tuple(strips)), f"t{yielding}", lambda name: ArraySource(sounds[int(name)]), start=0,
        end=sounds[yielding].shape[1], sample_rate_hz=RATE,
    )  # fmt: skip
    treated = list(sounds)
    treated[yielding] = np.concatenate(list(blocks), axis=1)
    after = hear(mapped(*treated), full_scale_db=full_scale_db)
    return clash, drafted, prove(heard, after, front=front, yielding=yielding, **region), treated[yielding]


@pytest.fixture(scope="module")
def low_strings() -> list[np.ndarray]:
    bass, _ = phrase(BASS, (33, 36, 38, 40, 33, 36))
    cello, _ = phrase(CELLO, (45, 48, 50, 45, 52, 48))
    flute, _ = phrase(FLUTE, (84, 86, 88, 84, 86, 88))
    frames = min(one.shape[1] for one in (bass, cello, flute))
    levels = (0.8, 0.3, 0.2)
    return [
        level * one[:, :frames] / np.abs(one).max() for level, one in zip(levels, (bass, cello, flute), strict=True)
    ]


def test_a_yield_brings_back_what_was_asked_for(low_strings):
    # The goals: half of what any cut could win without a cap; with it, 0.8 of what any cut within it could.
    clash, free, proof, _ = carve(low_strings, 0, 1, limit_db=24.0)
    assert free.move.kind == "dynamic-flat-bell"
    assert (free.move.listens_to, free.move.channel) == ("t0", "both")
    assert clash.low_hz < free.move.hz < clash.high_hz
    lost_sone = clash.loss_sone
    winnable_sone = lost_sone * clash.winnable_percent / 100
    assert proof.gained_sone > 0.4 * winnable_sone
    assert proof.verdict == "came forward"
    assert free.regained == pytest.approx(0.5, abs=0.05)
    # As rendered is about as the model expected.
    assert proof.cost_percent == pytest.approx(free.costs_percent, abs=6.0)

    _, capped, proof_capped, _ = carve(low_strings, 0, 1)
    assert capped.capped
    assert capped.move.depth_db == -4.0
    assert proof_capped.cost_percent < 12.0  # of a region of three octaves; no goal names it
    assert 0.0 < proof_capped.gained_percent < proof.gained_percent
    tracks = mapped(*low_strings)
    heard = hear(tracks, full_scale_db=full_scale_db_spl(tracks))
    best = regain(heard, 0, 1, region_bands(clash.low_hz, clash.high_hz), cut_db=4.0)
    assert proof_capped.gained_sone > 0.8 * best * lost_sone


def test_a_yield_acts_only_while_the_other_sounds():
    loud, front = band(280, 700, -20, seed=2, seconds=8), band(300, 600, -30, seed=1, seconds=8, on=0.5, period_s=4)
    _, drafted, _, treated = carve([front, loud], 0, 1, limit_db=12.0)
    changed_db = 20 * np.log10(np.abs(treated[0] - loud[0]).reshape(-1, RATE // 20).max(axis=1) + 1e-9)
    phase = (np.arange(len(changed_db)) * 0.05) % 4.0
    sounding, still = (phase > 0.15) & (phase < 1.9), (phase > 3.5) & (phase < 3.9)
    assert np.median(changed_db[sounding]) > np.median(changed_db[still]) + 40
    assert drafted.move.depth_db < -2.0


def test_a_backing_yields_in_its_middle_and_by_one_decibel():
    voice = band(500, 1_500, -30, seed=1)
    middle, sides = band(400, 2_000, -24, seed=2), band(400, 2_000, -30, seed=3)
    backing = np.concatenate([middle + sides, middle - sides])
    _, drafted, proof, treated = carve([voice, backing], 0, 1, role="full backing")
    assert (drafted.move.channel, drafted.limit_db, drafted.move.depth_db) == ("mid", 1.0, -1.0)
    assert np.abs((treated[0] - treated[1]) - 2 * sides[0]).max() < 1e-9
    assert proof.gained_percent > 0.0
    # A voice that stands at the side is not in the middle: then both channels yield.
    left = np.concatenate([voice, 0.2 * voice])
    _, drafted, _, _ = carve([left, backing], 0, 1, role="full backing")
    assert drafted.move.channel == "both"


def test_a_carve_that_gains_nothing_says_so(low_strings):
    heard = heard_of(*low_strings)
    proof = prove(heard, heard, front=0, yielding=1, low_hz=80.0, high_hz=200.0)
    assert proof.verdict == "gained nothing"
    assert "gained nothing" in proof_sentence(proof, "Bass", "Cello")
    assert proof.hidden_after_percent == proof.hidden_before_percent
    never = prove(heard_of(*low_strings), heard, front=0, yielding=2, low_hz=5_000.0, high_hz=9_000.0)
    assert never.gained_sone == 0.0


def test_what_cannot_yield_is_said(low_strings):
    tracks = mapped(low_strings[0], np.zeros_like(low_strings[1]))
    heard = hear(tracks, full_scale_db=90.0)
    pair = {"front": contender(0, low_strings[0]), "yielding": contender(1, low_strings[1])}
    region, figures = Region(80.0, 200.0, ()), {"full_scale_db": 90.0, "sample_rate_hz": RATE}
    with pytest.raises(ParameterError, match="never sound together"):
        draft_yield(tracks, heard, region, Terms(), **pair, **figures)
    with pytest.raises(ParameterError, match=r"part=1\.5 must be"):
        draft_yield(tracks, heard, region, Terms(part=1.5), **pair, **figures)


def test_the_command(tmp_path):
    names = []
    for name, samples in (("voice", band(300, 600, -30, seed=1)), ("organ", band(280, 700, -22, seed=2))):
        names.append(str(tmp_path / f"{name}.wav"))
        soundfile.write(names[-1], samples.T, RATE)
    run = CliRunner().invoke(app, ["clash", *names, "--role", "lead voice", "--role", "keys", "--json"])
    assert run.exit_code == 0, run.output
    clashes = json.loads(run.output)["clashes"]
    assert {"hidden", "by", "low_hz", "high_hz", "centre_hz", "share_of_time", "loss_percent", "times"} <= set(
        clashes[0]
    )
    assert (clashes[0]["hidden"], clashes[0]["by"], clashes[0]["goes_first"]) == (names[0], names[1], names[0])
    assert [one["strength"] for one in clashes] == sorted((one["strength"] for one in clashes), reverse=True)
    told = CliRunner().invoke(app, ["clash", *names])
    assert "hides" in told.output
    missing = CliRunner().invoke(app, ["clash", names[0], str(tmp_path / "none.wav")])
    assert missing.exit_code != 0
    assert "no such file" in missing.output
    wrong = CliRunner().invoke(app, ["clash", names[0], "--role", "singer"])
    assert wrong.exit_code != 0
    assert "singer" in wrong.output


def test_plain_data_names_who_goes_first():
    clash = find_clashes(heard_of(band(300, 600, -30, seed=1), band(300, 600, -20, seed=2)))[0]
    assert as_plain(clash, ["a", "b"], [1, 0])["goes_first"] == "b"
    assert as_plain(clash, ["a", "b"], [0, 1])["goes_first"] == "a"
