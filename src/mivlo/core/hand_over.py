"""Handing over: what may be asked for, and the files that come of it, rendered from a session and its sound."""

import shutil
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from mivlo.core.analyses.base import Need
from mivlo.core.analyses.loudness import needs_of_match
from mivlo.core.analyses.mix_comparison import match_of_mix
from mivlo.core.audiofile import (
    BITS_OF,
    FileSource,
    ImportLimits,
    OutputFormat,
    inspect_audio,
    resample_to_store,
    write_blocks,
)
from mivlo.core.engine.listening import Listening, MatchQuestion, match_question
from mivlo.core.engine.mix import Mix, group_by_itself, mix_of_session
from mivlo.core.engine.render import render_mix, render_track
from mivlo.core.engine.source import Source, open_source
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.level_match import matched
from mivlo.core.metadata.containers import carried_by
from mivlo.core.metadata.rendered import as_rendered
from mivlo.core.model import Group, RecordedSession, Track, Treatment
from mivlo.core.units import Array, db_to_gain

__all__ = [
    "ALL_FILES", "HandOverFile", "HandOverFiles", "HandOverRequest", "SoundStore", "check_request", "render_all",
    "zip_files",
]  # fmt: skip

Report = Callable[[float], None]
Results = Callable[[Need], Any]
ALL_FILES = "all.zip"
SUFFIXES: dict[OutputFormat, str] = {"wav-24": ".wav", "wav-float": ".wav", "flac-24": ".flac"}


@dataclass(frozen=True, slots=True)
class SoundStore:
    """Where the sound of a session is.

    `original` gives the file as it was imported, `open` its samples at the session's rate; `limits` are those of
    imports.
    """

    original: Callable[[str], Path]
    open: Callable[[str], Source]
    limits: ImportLimits


class HandOverRequest(BaseModel):
    """What to render; faders and level match are off for tracks and groups, on for the mix, unless said otherwise.

    A track's send is in the file of the group that it goes to, never in its own.
    """

    model_config = ConfigDict(extra="forbid")

    what: Literal["tracks", "groups", "mix"]
    treatment: Treatment = "A"
    track_ids: list[str] = Field(default=[], max_length=200)
    group_ids: list[str] = Field(default=[], max_length=100)
    tail_s: float = Field(default=0.0, ge=0.0, le=10.0)  # of groups and the mix: what rings on behind the end
    stand_ins: bool = False  # with what stands for what is done later
    output: OutputFormat = "wav-24"
    stretch: Literal["song", "loop"] = "song"
    faders: bool | None = None
    level_match: bool | None = None
    suffix: str = Field(default=" mivlo", max_length=40, pattern=r"^[^/\\\x00-\x1f]*$")


class HandOverFile(BaseModel):
    """One finished file."""

    name: str
    bytes: int
    clipped_samples: int


class HandOverFiles(BaseModel):
    """All finished files of a hand-over."""

    files: list[HandOverFile]


def check_request(state: RecordedSession, request: HandOverRequest) -> None:
    """Check that what is asked for can be rendered.

    Raises
    ------
    ParameterError: no tracks chosen, a loop that is not set
    NotFoundError: no such track or group
    """
    if request.what == "tracks":
        _chosen(state, request)
    if request.what == "groups":
        _chosen_groups(state, request)
    _stretch(state, request)


def render_all(
    state: RecordedSession, request: HandOverRequest, folder: Path, store: SoundStore, report: Report, results: Results
) -> HandOverFiles:  # fmt: skip
    """Write all files into a folder as 0, 1, ... and together as a zip.

    Parameters
    ----------
    report : is told how much is done; what it raises ends the work
    results : returns the results of analyses, of which levels are matched
    """
    shutil.rmtree(folder, ignore_errors=True)  # what a killed job left half-way
    folder.mkdir(parents=True)
    if request.what == "mix":
        files = [_render_mix(state, request, folder / "0", store, report, results)]
    elif request.what == "groups":
        groups = _chosen_groups(state, request)
        files = []
        for index, group in enumerate(groups):
            name = _unused(_file_name(group.name, request), {file.name for file in files})
            files.append(_render_group(state, group, request, folder / f"{index}", name, store))
            report((index + 1) / len(groups))
    else:
        tracks = _chosen(state, request)
        files = []
        for index, track in enumerate(tracks):
            name = _unused(_file_name(state.audio_of(track).original_name, request), {file.name for file in files})

            def share(part: float, index: int = index) -> None:
                report((index + part) / len(tracks))

            gain = _track_gain(state, track, request, results)
            files.append(_render_track(state, track, request, folder / f"{index}", name, store, share, gain))
    if len(files) > 1:
        zip_files(folder, files)
    return HandOverFiles(files=files)


def zip_files(folder: Path, files: list[HandOverFile]) -> None:
    """Put all files of a hand-over together; raises OSError. Source: ours."""
    part = folder / f".{ALL_FILES}.part"
    with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive:
        for index, file in enumerate(files):
            archive.write(folder / f"{index}", file.name)
    part.replace(folder / ALL_FILES)


def _render_track(
    state: RecordedSession, track: Track, request: HandOverRequest, path: Path, name: str, store: SoundStore,
    report: Report, gain: float,
) -> HandOverFile:  # fmt: skip
    """Render one track from its original file at the file's own rate."""
    file = store.original(track.audio_id)
    original = FileSource(file)
    try:
        rate = original.sample_rate_hz
        start, end = _file_range(state, track, request, rate, original.n_frames)
        treated = track.acts and any(entry.move.on for entry in track.lasting_ledger)
        with tempfile.TemporaryDirectory(dir=path.parent) as scratch:
            sources = _SourcesAtRate(rate, {track.audio_id: original}, Path(scratch), store)
            mix = _mix_at_rate(_mix_of(state, request), rate / state.sample_rate_hz)
            offset = next(one.start_frame for one in mix.tracks if one.id == track.id)
            blocks = render_track(
                mix, track.id, sources.open, start=offset + start, end=offset + end, sample_rate_hz=rate
            )
            carries = as_rendered(
                carried_by(file), start_frame=start, n_frames=end - start, sample_rate_hz=rate,
                n_channels=original.n_channels, bits=BITS_OF[request.output],
            )  # fmt: skip
            clipped = write_blocks(
                path, _reported(_scaled(blocks, gain), end - start, report), n_channels=original.n_channels,
                sample_rate_hz=rate, output=request.output, dither=treated or abs(gain) != 1.0, n_frames=end - start,
                called=name, carries=carries,
            )  # fmt: skip
    finally:
        original.close()
    return HandOverFile(name=name, bytes=path.stat().st_size, clipped_samples=clipped)


def _mix_at_rate(mix: Mix, ratio: float) -> Mix:
    """Return the mix with its frames told at another rate."""
    tracks = tuple(t.model_copy(update={"start_frame": round(t.start_frame * ratio)}) for t in mix.tracks)
    return mix.model_copy(update={"tracks": tracks})


class _SourcesAtRate:
    """Opens what a track's moves listen to, at the rate of the track's own file."""

    def __init__(self, rate_hz: int, known: dict[str, Source], scratch: Path, store: SoundStore) -> None:
        self._rate_hz, self._known, self._scratch, self._store = rate_hz, known, scratch, store

    def open(self, audio_id: str) -> Source:
        if audio_id not in self._known:
            self._known[audio_id] = self._converted(audio_id)
        return self._known[audio_id]

    def _converted(self, audio_id: str) -> Source:
        original = self._store.original(audio_id)
        info = inspect_audio(original, limits=self._store.limits, name=audio_id)
        target = self._scratch / f"{audio_id}.npy"
        resample_to_store(original, target, info=info, rate_hz=self._rate_hz, name=audio_id)
        return open_source(target)


def _render_mix(
    state: RecordedSession, request: HandOverRequest, path: Path, store: SoundStore, report: Report, results: Results
) -> HandOverFile:  # fmt: skip
    start, end = _with_tail(state, request)
    mix = _mix_of(state, request)
    if request.faders is False:
        mix = _faders_at_zero(mix)
    gain = db_to_gain(_match_db(state, match_of_mix(state), results)) if request.level_match is not False else 1.0
    blocks = render_mix(mix, store.open, start=start, end=end, sample_rate_hz=state.sample_rate_hz)
    name = _file_name(f"{state.name} mix", request)
    clipped = write_blocks(
        path, _reported(_scaled(blocks, gain), end - start, report), n_channels=2,
        sample_rate_hz=state.sample_rate_hz, output=request.output, dither=True, n_frames=end - start, called=name,
    )  # fmt: skip
    return HandOverFile(name=name, bytes=path.stat().st_size, clipped_samples=clipped)


def _render_group(
    state: RecordedSession, group: Group, request: HandOverRequest, path: Path, name: str, store: SoundStore
) -> HandOverFile:  # fmt: skip
    """Render what comes out of a group, with what is sent there; its own fader only where that is asked for."""
    start, end = _with_tail(state, request)
    mix = group_by_itself(_mix_of(state, request), group.id)
    if not request.faders:
        groups = tuple(one.model_copy(update={"gain_db": 0.0}) if one.id == group.id else one for one in mix.groups)
        mix = mix.model_copy(update={"groups": groups})
    blocks = render_mix(mix, store.open, start=start, end=end, sample_rate_hz=state.sample_rate_hz)
    clipped = write_blocks(
        path, blocks, n_channels=2, sample_rate_hz=state.sample_rate_hz, output=request.output, dither=True,
        n_frames=end - start, called=name,
    )  # fmt: skip
    return HandOverFile(name=name, bytes=path.stat().st_size, clipped_samples=clipped)


def _mix_of(state: RecordedSession, request: HandOverRequest) -> Mix:
    return mix_of_session(state, stand_ins="acting" if request.stand_ins else "left-out")


def _with_tail(state: RecordedSession, request: HandOverRequest) -> tuple[int, int]:
    start, end = _stretch(state, request)
    return start, end + round(request.tail_s * state.sample_rate_hz)


def _faders_at_zero(mix: Mix) -> Mix:
    tracks = tuple(track.model_copy(update={"gain_db": 0.0, "pan": 0.0}) for track in mix.tracks)
    return mix.model_copy(update={"tracks": tracks})


def _match_db(state: RecordedSession, question: MatchQuestion, results: Results) -> float:
    """Return by how much what is treated is turned down to be no louder than it was before."""
    two = question.model_copy(update={"others": ()})  # what is only listened through is nobody's business elsewhere
    before, after = (results(need) for need in needs_of_match(two, state.sample_rate_hz))
    return matched(before, after).match_after_db


def _track_gain(state: RecordedSession, track: Track, request: HandOverRequest, results: Results) -> float:
    """Return the linear gain of a handed-over track: polarity always, fader and match where asked for."""
    gain = -1.0 if track.polarity_flipped else 1.0
    if request.faders:
        gain *= db_to_gain(track.gain_db)
    if request.level_match:
        question = match_question(
            state, Listening(treatment=state.treatment, strip_id=track.id), end_frame=state.end_frame()
        )
        assert question is not None
        gain *= db_to_gain(_match_db(state, question, results))
    return gain


def _scaled(blocks: Iterator[Array], gain: float) -> Iterator[Array]:
    return blocks if gain == 1.0 else (block * gain for block in blocks)


def _reported(blocks: Iterator[Array], n_frames: int, report: Report) -> Iterator[Array]:
    done = 0
    for block in blocks:
        yield block
        done += block.shape[1]
        report(done / max(n_frames, 1))


def _chosen(state: RecordedSession, request: HandOverRequest) -> list[Track]:
    known = {track.id: track for track in state.tracks}
    if not request.track_ids:
        raise ParameterError("track_ids is empty: choose at least one track")
    missing = [track_id for track_id in request.track_ids if track_id not in known]
    if missing:
        raise NotFoundError(f"tracks {', '.join(missing)} are not in this session")
    return [known[track_id] for track_id in request.track_ids]


def _chosen_groups(state: RecordedSession, request: HandOverRequest) -> list[Group]:
    known = {group.id: group for group in state.groups if request.stand_ins or not group.stand_in}
    if not request.group_ids:
        raise ParameterError("group_ids is empty: choose at least one group")
    missing = [group_id for group_id in request.group_ids if group_id not in known]
    if missing:
        raise NotFoundError(f"groups {', '.join(missing)} are not in this session, or stand in for others")
    return [known[group_id] for group_id in request.group_ids]


def _stretch(state: RecordedSession, request: HandOverRequest) -> tuple[int, int]:
    """Return the session frames to render."""
    if request.stretch == "loop":
        loop = Mix(loop_start_frame=state.loop_start_frame, loop_end_frame=state.loop_end_frame).loop()
        if loop is None:
            raise ParameterError("stretch=loop, but no loop is set: drag one on the waveform, or choose the song")
        return loop
    return 0, state.end_frame()


def _file_range(
    state: RecordedSession, track: Track, request: HandOverRequest, rate_hz: int, n_frames: int
) -> tuple[int, int]:
    """Return the frames of the track's own file to render: all of it, so that it drops back into place, or the loop."""
    if request.stretch == "song":
        return 0, n_frames
    start, end = _stretch(state, request)
    ratio = rate_hz / state.sample_rate_hz
    return round((start - track.start_frame) * ratio), round((end - track.start_frame) * ratio)


def _file_name(original: str, request: HandOverRequest) -> str:
    """Return the user's own name plus the suffix, as a bare file name."""
    bare = PurePath(original.replace("\\", "/")).name
    stem = PurePath(bare).stem if PurePath(bare).suffix else bare
    return f"{stem.replace('/', ' ')}{request.suffix}{SUFFIXES[request.output]}"


def _unused(name: str, taken: set[str]) -> str:
    path = PurePath(name)
    number, candidate = 2, name
    while candidate in taken:
        candidate, number = f"{path.stem} {number}{path.suffix}", number + 1
    return candidate
