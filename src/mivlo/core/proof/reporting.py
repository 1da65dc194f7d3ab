"""Reports are made here: of a session as far as results are known, and of files with a treatment."""

from collections.abc import Mapping, Sequence

from mivlo.core.analyses.base import Known, OfStrip
from mivlo.core.analyses.cures import AskedMove, Cures
from mivlo.core.analyses.in_mix import MovesInMix
from mivlo.core.analyses.pressure import Pressures
from mivlo.core.analyses.side_by_side import AskedSides, Sides
from mivlo.core.audiofile import FileSource
from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import blocks_of
from mivlo.core.model import RecordedSession, StripBase
from mivlo.core.moves.words import move_text
from mivlo.core.proof.measured import figures_of
from mivlo.core.proof.report import MoveReport, RemarkReport, Report, StripReport
from mivlo.core.round.row import Lookup
from mivlo.core.treatment import Treatment

__all__ = ["report_of_files", "report_of_session"]

_CURES, _IN_MIX, _PRESSURES, _SIDES = Cures(), MovesInMix(), Pressures(), Sides()


def report_of_session(
    session: RecordedSession, known: Known, *, blind: Mapping[str, str], checks: Sequence[str] = ()
) -> Report:  # fmt: skip
    """Return what was done in the treatment that a session shows.

    Parameters
    ----------
    known : looks up results that are kept; what is not known is left out
    blind : what a blind check of a move showed, by the move's id
    checks : what others showed

    Raises
    ------
    Nothing.

    Source: ours
    """
    lookup = Lookup(session, known, [], [])
    name = next((one.name for one in session.treatments if one.letter == session.treatment), "")
    of = (
        f"Treatment {session.treatment}{f': {name}' if name else ''}"
        if len(session.treatments) > 1
        else "What was done"
    )
    figures = lookup.shown(_SIDES, AskedSides()) if session.tracks else None
    strips = [
        StripReport(
            name=strip.name, role=getattr(strip, "role", "other"), amount=strip.amount, ledger_on=strip.ledger_on,
            moves=_moves(lookup, strip, blind),
            remarks=[RemarkReport(**one.model_dump(exclude={"id"})) for one in strip.remarks],
        )
        for strip in session.strips()
    ]  # fmt: skip
    return Report(
        name=session.name, treatment=of, before=figures.before if figures else None,
        after=figures.after if figures else None, strips=strips, checks=list(checks),
    )  # fmt: skip


def _moves(lookup: Lookup, strip: StripBase, blind: Mapping[str, str]) -> list[MoveReport]:
    pressed = lookup.shown(_PRESSURES, OfStrip(strip_id=strip.id)) if lookup.session.stands_in() else None
    reports = []
    for entry in strip.lasting_ledger:
        asked = AskedMove(strip_id=strip.id, entry_id=entry.id)
        cure = lookup.shown(_CURES, asked) if entry.evidence is not None and strip.acts and entry.move.on else None
        in_mix = lookup.shown(_IN_MIX, asked)
        row = next((one for one in pressed.rows if one.entry_id == entry.id), None) if pressed is not None else None
        heard = "" if in_mix is None else "not heard in the mix" if in_mix.heard == "lost" else "heard in the mix"
        verdict = ""
        if cure is not None:
            verdict = (
                f"{cure.verdict}: {cure.excess_before_db:.1f} dB before, {max(cure.excess_after_db, 0.0):.1f} after"
            )
        reports.append(
            MoveReport(
                sentence=move_text(entry.move), on=entry.move.on and strip.acts, reason=entry.reason, verdict=verdict,
                in_mix=heard,
                under_pressure="" if row is None else f"under pressure: {row.sentence}",
                blind="" if entry.id not in blind else f"blind: {blind[entry.id]}",
            )
        )  # fmt: skip
    return reports


def report_of_files(files: Sequence[tuple[str, FileSource]], treatment: Treatment, *, name: str) -> Report:
    """Return what a treatment does to sounds (name and file), each by itself.

    Raises
    ------
    ParameterError: a move that does not fit a rate
    """
    acting = tuple(move for move in treatment.moves if not move.stand_in)
    moves = [MoveReport(sentence=move_text(move), on=move.on, reason="") for move in acting]
    strips = []
    for file, sound in files:
        rate, untreated = sound.sample_rate_hz, blocks_of(sound, 0, sound.n_frames)
        treated = render_moves(sound, acting, sample_rate_hz=rate, amount=treatment.amount)
        strips.append(
            StripReport(
                name=file, role="other", amount=treatment.amount, ledger_on=True, moves=moves,
                before=figures_of(untreated, sample_rate_hz=rate), after=figures_of(treated, sample_rate_hz=rate),
            )
        )  # fmt: skip
    of_moves = f"{len(moves)} move{'' if len(moves) == 1 else 's'}"
    return Report(name=name, treatment=of_moves, before=None, after=None, strips=strips)
