"""Verbs that listen to files: what is found in one, between several, and towards another."""

import json
from pathlib import Path
from typing import Annotated

import typer

from mivlo.cli.application import app, one_line_errors
from mivlo.cli.options import AsJson, FromS, HighHz, LowHz, OneFile, OneRole, Roles, ToS
from mivlo.cli.reading import opened, role_of, roles_of, stretch_of
from mivlo.core.errors import ParameterError

__all__: list[str] = []


@app.command()
@one_line_errors
def find(
    file: OneFile,
    from_s: FromS = 0.0,
    to_s: ToS = None,
    low: LowHz = 20.0,
    high: HighHz = 20_000.0,
    role: OneRole = "",
    as_json: AsJson = False,
) -> None:
    """Print what behaves like a fault in a track, with its evidence and a proposed move; strongest first."""
    from mivlo.core.finder import describe
    from mivlo.core.finder.suspects import find as find_suspects

    info, source = opened(file)
    start, end = stretch_of(info, from_s, to_s)
    findings = find_suspects(
        source, start=start, end=end, sample_rate_hz=info.sample_rate_hz, low_hz=low,
        high_hz=high, role=role_of(role),
    )  # fmt: skip
    if as_json:
        print(json.dumps(describe.as_plain(findings)))
        return
    for suspect in findings.suspects:
        print(f"{suspect.hz:9.1f} Hz  {suspect.confidence:4.2f}  {suspect.kind:10} {describe.sentence(suspect)}")
    for event in findings.events:
        print(f"{event.start_s:8.3f} s  {event.kind}")


@app.command()
@one_line_errors
def survey(
    file: OneFile,
    from_s: FromS = 0.0,
    to_s: ToS = None,
    low: LowHz = 150.0,
    high: HighHz = 10_000.0,
    amount: Annotated[float, typer.Option(help="Per cent of what stands out, for all cuts alike.")] = 60.0,
    most: Annotated[int, typer.Option(help="So many cuts at most, the strongest.")] = 24,
    role: OneRole = "",
    as_json: AsJson = False,
) -> None:
    """Print shallow cuts at what a track's places add to whatever passes them, strongest first; and the same as one
    plane."""
    from mivlo.core.finder.describe import survey_as_plain
    from mivlo.core.finder.survey import survey as survey_of

    info, source = opened(file)
    start, end = stretch_of(info, from_s, to_s)
    found = survey_of(
        source, start=start, end=end, sample_rate_hz=info.sample_rate_hz, low_hz=low, high_hz=high,
        amount=amount, most=most, role=role_of(role),
    )  # fmt: skip
    if as_json:
        print(json.dumps(survey_as_plain(found)))
        return
    for cut in found.cuts:
        print(f"{cut.move.hz:9.1f} Hz  {cut.move.gain_db:5.1f} dB  Q {cut.move.q:4.1f}  {cut.sure:4.2f}  {cut.reason}")


@app.command()
@one_line_errors
def clash(
    files: Annotated[
        list[Path], typer.Argument(metavar="FILE...", help="Audio files of the tracks, all from the same start.")
    ],
    role: Roles = None,
    as_json: AsJson = False,
) -> None:
    """Print who hides whom when the tracks play together: where, when and how much; strongest first."""
    from mivlo.core.ensemble.describe import as_plain, sentence
    from mivlo.core.ensemble.files import clashes_of_files
    from mivlo.core.ensemble.right_of_way import first_order

    names = [str(file) for file in files]
    order = first_order(roles_of(files, role or []))
    found = clashes_of_files(files)
    if as_json:
        print(json.dumps({"clashes": [as_plain(one, names, order) for one in found]}))
        return
    if not found:
        print(
            "Nothing hides another track."
            if len(files) > 1
            else "One track alone is hidden by nobody: name two or more."
        )
    for one in found:
        print(sentence(one, names))


@app.command()
@one_line_errors
def likeness(
    file: Annotated[Path, typer.Argument(help="Audio file of the sound that is drawn.")],
    reference: Annotated[Path, typer.Argument(help="Audio file of the sound towards whose balance it is drawn.")],
    amount: Annotated[float, typer.Option(help="Per cent of the way.")] = 100.0,
    moves: Annotated[int, typer.Option(help="So many moves at most: bells and shelves.")] = 6,
    as_json: AsJson = False,
) -> None:
    """Print moves that draw a sound's balance towards another's, and how far apart they are before and after."""
    from mivlo.core.engine.render import render_moves
    from mivlo.core.engine.source import blocks_of
    from mivlo.core.proof.likeness import balance_of, distance_db, drawn_towards

    if not 0.0 <= amount <= 100.0:
        raise ParameterError(f"--amount {amount:g} must be from 0 to 100 per cent")
    if not 1 <= moves <= 12:
        raise ParameterError(f"--moves {moves} must be from 1 to 12")
    (info, source), (other_info, other) = opened(file), opened(reference)
    rate = info.sample_rate_hz
    one = balance_of(blocks_of(source, 0, info.n_frames), sample_rate_hz=rate)
    target = balance_of(blocks_of(other, 0, other_info.n_frames), sample_rate_hz=other_info.sample_rate_hz)
    found = drawn_towards(one, target, amount=amount, most_moves=moves)
    drawn = balance_of(render_moves(source, found.moves, sample_rate_hz=rate), sample_rate_hz=rate)
    figures = {
        "moves": [move.model_dump(mode="json") for move in found.moves],
        "distance_before_db": round(found.distance_before_db, 3),
        "distance_after_db": round(distance_db(drawn, target), 3),
    }
    if as_json:
        print(json.dumps(figures))
        return
    for move in found.moves:
        print(f"{move.label:10} {move.hz:9.1f} Hz  {move.gain_db:5.1f} dB  Q {move.q:4.2f}")
    print(f"{figures['distance_before_db']:.1f} dB apart before, {figures['distance_after_db']:.1f} after")
