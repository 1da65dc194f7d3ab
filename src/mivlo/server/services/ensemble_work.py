"""Background work of the Ensemble: what reaches the ear of everybody who plays, kept on disk, and listening to all
together."""

import hashlib
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Set
from concurrent.futures import as_completed
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path

import numpy as np
from pydantic import BaseModel

from mivlo.core.audiofile import write_store
from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_mix, render_track
from mivlo.core.engine.source import ArraySource, Source, open_source
from mivlo.core.ensemble.clashes import Clash, find_clashes
from mivlo.core.ensemble.columns import Columns, columns
from mivlo.core.ensemble.erb_map import ErbMap, erb_map, frame_s
from mivlo.core.ensemble.hearing import CENTRES_HZ
from mivlo.core.ensemble.listening import Heard, MixedTrack, full_scale_db_spl, hear
from mivlo.core.ensemble.proof import Proof, prove
from mivlo.core.ensemble.yielding import Contender, Drafted, Region, Terms, draft_yield
from mivlo.core.errors import MivloError
from mivlo.core.model import ClashReason, Group, Track, keys_of, members_under
from mivlo.core.roles import Role
from mivlo.server.services.imports import STORED
from mivlo.server.services.pool import in_pool, submit
from mivlo.server.services.state import SessionState
from mivlo.server.services.strips import alone_mix
from mivlo.server.settings import settings

__all__ = ["Answer", "Player", "Question", "Work", "answer_of", "drafted_yield", "question_of", "work_on"]

N_TIMES = 72  # across a column
KEPT_ANSWERS = 4
KEPT_MAPS = 400  # of a few MB each at most


class Player(BaseModel):
    """Somebody who plays: a track, or a group as one; `mix` is how its sound is made, without its fader where it is a
    track."""

    model_config = {"frozen": True}

    id: str
    name: str
    role: Role | None
    is_group: bool
    gain_db: float
    pan: float
    mix: Mix
    end: int

    @property
    def key(self) -> str:
        """Return what names its map on disk."""
        text = f"{self.mix.model_dump_json()} {self.is_group} {self.end}"
        return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()


class Question(BaseModel):
    """All that an analysis hangs on."""

    model_config = {"frozen": True}

    session_id: str
    rate: int
    before: tuple[Player, ...]
    after: tuple[Player, ...]
    answers: tuple[tuple[str, str, ClashReason], ...]  # strip, entry, what it answers

    @property
    def key(self) -> str:
        """Return what names its answer."""
        players = [(p.id, p.key, p.gain_db, p.pan) for p in (*self.before, *self.after)]
        text = f"{self.session_id} {players} {self.answers}"
        return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()


class Answer(BaseModel):
    """What an analysis gave."""

    model_config = {"arbitrary_types_allowed": True}

    before: Columns
    after: Columns
    clashes: list[Clash]
    proofs: dict[tuple[str, str], Proof]
    full_scale_db: float


class Work:
    """One analysis under way, or done."""

    def __init__(self, of: int) -> None:
        self.done, self.of = 0, of
        self.problem: str | None = None
        self.answer: Answer | None = None


_lock = threading.Lock()
_works: OrderedDict[str, Work] = OrderedDict()


def _folder(question: "Question") -> Path:
    return settings().data / "ensemble" / question.session_id


def _map_path(folder: Path, key: str) -> Path:
    return folder / f"{key}.npy"


def question_of(state: SessionState) -> Question:
    """Return what is asked of a session: everybody who plays, without the yields and with them."""
    plain = _without_yields(state)
    answers = tuple(
        (strip.id, entry.id, entry.clash)
        for strip in (*state.tracks, *state.groups)
        for entry in strip.ledger
        if entry.clash is not None and entry.move.on and strip.ledger_on
    )
    return Question(
        session_id=state.id, rate=state.sample_rate_hz, before=_players(plain), after=_players(state), answers=answers
    )


def _without_yields(state: SessionState) -> SessionState:
    def plain(strip: Track | Group) -> dict[str, object]:
        return {"ledger": tuple(entry for entry in strip.ledger if entry.clash is None)}

    return state.model_copy(
        update={
            "tracks": [track.model_copy(update=plain(track)) for track in state.tracks],
            "groups": [group.model_copy(update=plain(group)) for group in state.groups],
        }
    )


def _players(state: SessionState) -> tuple[Player, ...]:
    end = state.end_frame()
    groups = {group.id: group for group in state.groups if not group.mute and group.group_id is None}
    mix = mix_of_session(state)
    plain = mix.master.model_copy(update={"ledger": (), "gain_db": 0.0, "mute": False})
    unsoloed = tuple(track.model_copy(update={"solo": False}) for track in mix.tracks)
    found = []
    for track in state.tracks:
        if not track.mute and track.group_id is None:
            found.append(
                Player(
                    id=track.id, name=track.name, role=None if track.role == "other" else track.role, is_group=False,
                    gain_db=track.gain_db, pan=track.pan, mix=alone_mix(state, track), end=end,
                )
            )  # fmt: skip
    for group in groups.values():
        sources = state.sources_of(group.id)
        if any(track.id in sources and not track.mute for track in state.tracks):
            keyed = _keyed(state, group, sources)
            members = tuple(track for track in unsoloed if track.id in sources or keyed)
            within = {group.id, *sources}
            own = tuple(one.model_copy(update={"solo": False}) for one in mix.groups if one.id in within or keyed)
            alone = Mix(tracks=members, groups=own, master=plain, alone_track_id=group.id)
            found.append(
                Player(
                    id=group.id,
                    name=group.name,
                    role="full backing",
                    is_group=True,
                    gain_db=0.0,
                    pan=0.0,
                    mix=alone,
                    end=end,
                )
            )
    return tuple(found)


def _keyed(state: SessionState, group: Group, sources: Set[str]) -> bool:
    """Tell whether a move in a group, or in what goes there, listens to somebody: then all others stay in its mix."""
    strips = (strip for strip in state.strips() if strip.id == group.id or strip.id in sources)
    return any(keys_of(strip.ledger) for strip in strips)


def work_on(question: Question) -> Work:
    """Return the work on a question, begun where it is new; what failed is tried again at the next question."""
    with _lock:
        work = _works.get(question.key)
        if work is None:
            work = _works[question.key] = Work(of=1)
            threading.Thread(target=_carry_out, args=(question, work), daemon=True).start()
        _works.move_to_end(question.key)
        while len(_works) > KEPT_ANSWERS:
            _works.popitem(last=False)
        if work.problem is not None:
            _works.pop(question.key)
    return work


def answer_of(question: Question) -> Answer | None:
    """Return what is known on a question, without beginning any work."""
    with _lock:
        work = _works.get(question.key)
    return None if work is None else work.answer


def drafted_yield(
    state: SessionState,
    question: Question,
    clash: Clash,
    terms: Terms,
    *,
    front: str,
    yielding: str,
    full_scale_db: float,
) -> Drafted:
    """Return the move by which one yields to the other, drafted in the pool; raises ParameterError as `draft_yield`."""
    return in_pool(
        _draft,
        str(settings().data / "audio"),
        _folder(question),
        question,
        _raw(state, front),
        _raw(state, yielding),
        front,
        yielding,
        clash,
        full_scale_db,
        terms,
    )


def _carry_out(question: Question, work: Work) -> None:
    """Make the maps that are missing, one process for each track, then listen to all together."""
    try:
        folder = _folder(question)
        folder.mkdir(parents=True, exist_ok=True)
        audio_folder = str(settings().data / "audio")
        missing = {
            one.key: one for one in (*question.before, *question.after) if not _map_path(folder, one.key).is_file()
        }
        work.of = len(missing) + 1
        waiting = [submit(_make_map, audio_folder, folder, one, question.rate) for one in missing.values()]
        for made in as_completed(waiting):
            made.result()
            work.done += 1
        work.answer = in_pool(_analyse, folder, question)
        work.done += 1
        for old in sorted(folder.glob("*.npy"), key=lambda path: -path.stat().st_mtime)[KEPT_MAPS:]:
            old.unlink(missing_ok=True)
    except BrokenProcessPool:
        work.problem = "an analysis process was ended from outside; it is tried again"
    except MivloError as error:
        work.problem = str(error)
    except OSError as error:
        work.problem = f"the maps of the tracks cannot be kept: {error}"


def _make_map(audio_folder: str, folder: Path, player: Player, rate: int) -> None:
    """Render somebody's sound and keep what reaches the ear of it."""

    def open_stored(audio_id: str) -> Source:
        return open_source(Path(audio_folder) / audio_id / STORED)

    if player.is_group:
        blocks = render_mix(player.mix, open_stored, start=0, end=max(player.end, 1), sample_rate_hz=rate)
    else:
        name = player.mix.tracks[0].id
        blocks = render_track(player.mix, name, open_stored, start=0, end=max(player.end, 1), sample_rate_hz=rate)
    n_frames = max(player.end, 1)
    n_channels = 2 if player.is_group else open_stored(player.mix.tracks[0].audio_id).n_channels
    with tempfile.TemporaryDirectory(dir=folder) as scratch:  # a long track is not held in memory
        stored = Path(scratch) / STORED
        write_store(stored, blocks, n_channels=n_channels, n_frames=n_frames)
        made = erb_map(open_source(stored), start=0, end=n_frames, sample_rate_hz=rate)
    path = _map_path(folder, player.key)
    part = path.with_suffix(".part.npy")
    np.save(part, made.power)
    part.replace(path)


def _tracks(folder: Path, players: tuple[Player, ...], rate: int) -> list[MixedTrack]:
    """Return the tracks with their maps, which are read where they lie."""
    maps = [np.load(_map_path(folder, one.key), mmap_mode="r") for one in players]
    hop_s = frame_s(rate)
    return [
        MixedTrack(ErbMap(power, 0.0, hop_s), gain_db=one.gain_db, pan=one.pan)
        for power, one in zip(maps, players, strict=True)
    ]


def _heard(
    folder: Path, players: tuple[Player, ...], rate: int, full_scale_db: float | None = None
) -> tuple[list[MixedTrack], Heard, float]:
    tracks = _tracks(folder, players, rate)
    level = full_scale_db_spl(tracks) if full_scale_db is None else full_scale_db
    return tracks, hear(tracks, full_scale_db=level), level


def _analyse(folder: Path, question: Question) -> Answer:
    if not question.before:
        nothing = np.zeros((0, len(CENTRES_HZ), 1), dtype=np.uint8)
        empty = Columns(nothing, nothing, nothing, 0.0, 1.0)
        return Answer(before=empty, after=empty, clashes=[], proofs={}, full_scale_db=0.0)
    _, before, full_scale_db = _heard(folder, question.before, question.rate)
    after = before
    if question.answers:
        _, after, _ = _heard(folder, question.after, question.rate, full_scale_db)
    index = {one.id: number for number, one in enumerate(question.before)}
    proofs = {
        (strip, entry): prove(
            before,
            after,
            front=index[reason.front],
            yielding=index[strip],
            low_hz=reason.low_hz,
            high_hz=reason.high_hz,
        )
        for strip, entry, reason in question.answers
        if reason.front in index and strip in index
    }
    return Answer(
        before=columns(before, n_times=N_TIMES), after=columns(after, n_times=N_TIMES), clashes=find_clashes(before),
        proofs=proofs, full_scale_db=full_scale_db,
    )  # fmt: skip


def _raw(state: SessionState, strip_id: str) -> tuple[tuple[str, int], ...]:
    """Return audio ids and starts of what a key hears of somebody: before all moves."""
    inside = members_under(strip_id, state.tracks, state.groups)
    tracks = [track for track in state.tracks if track.id == strip_id or track.id in inside]
    return tuple((track.audio_id, track.start_frame) for track in tracks)


def _draft(
    audio_folder: str,
    folder: Path,
    question: Question,
    front_raw: tuple[tuple[str, int], ...],
    yielding_raw: tuple[tuple[str, int], ...],
    front: str,
    yielding: str,
    clash: Clash,
    full_scale_db: float,
    terms: Terms,
) -> Drafted:
    tracks, heard, _ = _heard(folder, question.before, question.rate, full_scale_db)
    index = {one.id: number for number, one in enumerate(question.before)}

    def contender(strip_id: str, raw: tuple[tuple[str, int], ...]) -> Contender:
        player = question.before[index[strip_id]]
        source, start = _summed(audio_folder, raw)
        return Contender(index[strip_id], strip_id, source, start / question.rate, player.role, player.pan)

    return draft_yield(
        tracks,
        heard,
        Region(clash.low_hz, clash.high_hz, clash.times),
        terms,
        front=contender(front, front_raw),
        yielding=contender(yielding, yielding_raw),
        full_scale_db=full_scale_db,
        sample_rate_hz=question.rate,
    )


def _summed(audio_folder: str, raw: tuple[tuple[str, int], ...]) -> tuple[Source, int]:
    """Return one sound of several, and the session frame at which it begins."""
    sources = [(open_source(Path(audio_folder) / audio_id / STORED), start) for audio_id, start in raw]
    if len(sources) == 1:
        return sources[0]
    first = min(start for _, start in sources)
    n_channels = max(source.n_channels for source, _ in sources)
    out = np.zeros((n_channels, max(start + source.n_frames for source, start in sources) - first))
    for source, start in sources:
        out[:, start - first : start - first + source.n_frames] += source.read(0, source.n_frames)
    return ArraySource(out), first
