"""The command line's verbs: they share the core and need neither server nor database."""

import json
import os
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, ParamSpec

import numpy as np
import typer
from pydantic import ValidationError

from mivlo.core.errors import MivloError, ParameterError, TreatmentError
from mivlo.core.moves.capabilities import Listens
from mivlo.core.treatment import explain_validation, read_treatment, treatment_response
from mivlo.core.units import Array

if TYPE_CHECKING:  # the audio libraries would cost `response` its quick start
    from mivlo.core.audiofile import AudioFileInfo
    from mivlo.core.local_session import LocalSession
    from mivlo.core.model import Treatment
    from mivlo.core.proof.report import Report
    from mivlo.core.roles import Role

__all__ = ["app"]

P = ParamSpec("P")
LEFT_OUT_TOLD = 1e-6  # of an impulse response: more than that is told

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="Find, cut and prove away what rings, booms and hides in a mix. "
    "`mivlo serve --database URL --data FOLDER` runs the application where it is installed; from a checkout, "
    "`./mivlo start` runs it and `./mivlo test` all its tests, with their own set-up.",
)


def _one_line_errors(command: Callable[P, None]) -> Callable[P, None]:
    """Turn what the user can cause into one line on standard error and exit status 2."""

    @wraps(command)
    def wrapped(*args: P.args, **kwargs: P.kwargs) -> None:
        try:
            command(*args, **kwargs)
            sys.stdout.flush()
        except BrokenPipeError:
            # Whoever reads has seen enough; what is left would fail again when Python ends.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        except (MivloError, OSError) as error:
            print(f"mivlo: {' '.join(str(error).split())}", file=sys.stderr)
            raise typer.Exit(2) from None

    return wrapped


@app.command()
@_one_line_errors
def start(
    port: Annotated[int, typer.Option(help="Port of the application on 127.0.0.1.")] = 8765,
    data: Annotated[str, typer.Option(help="Data folder; empty: the usual place.")] = "",
    demo: Annotated[bool, typer.Option("--demo/--no-demo", help="Load the made-up session once.")] = True,
) -> None:
    """Set up what is missing, then run the application with its demo session (Ctrl-C stops it)."""
    raise MivloError("start is run by the script ./mivlo, which does the set-up first")


@app.command()
@_one_line_errors
def test() -> None:
    """Set up what is missing, then run every test, linter and type check."""
    raise MivloError("test is run by the script ./mivlo, which does the set-up first")


@app.command()
@_one_line_errors
def backup(file: Annotated[Path, typer.Argument(help="File to write.")]) -> None:
    """Save everything that Mivlo keeps in one file, while it runs or not (--data names its folder)."""
    raise MivloError(f"{file}: backup is one of the application's own verbs: mivlo backup FILE [--data FOLDER]")


@app.command()
@_one_line_errors
def restore(file: Annotated[Path, typer.Argument(help="Backup to read.")]) -> None:
    """Bring everything of a backup back, into an empty data folder (--data names it)."""
    raise MivloError(f"{file}: restore is one of the application's own verbs: mivlo restore FILE [--data FOLDER]")


@app.command()
@_one_line_errors
def response(
    treatment: Annotated[Path, typer.Argument(help="Treatment file (docs/treatment.schema.json).")],
    at: Annotated[str, typer.Option(help="Frequencies in Hz, separated by commas.")],
    rate: Annotated[float, typer.Option(help="Sampling rate in Hz.")] = 48_000.0,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print the response of the whole treatment at some frequencies."""
    if not 8_000.0 <= rate <= 192_000.0:
        raise ParameterError(f"rate={rate:g} must be from 8000 to 192000 Hz")
    freqs_hz = np.array([_frequency(text, rate) for text in at.split(",")])
    h = treatment_response(read_treatment(treatment).acting(), freqs_hz, rate)
    level_db = 20.0 * np.log10(np.maximum(np.abs(h), 1e-15))
    phase_deg = np.degrees(np.angle(h))
    phase_deg = np.where(phase_deg <= -180.0, 180.0, phase_deg)
    if as_json:
        print(json.dumps({"hz": freqs_hz.tolist(), "db": level_db.tolist(), "phase_deg": phase_deg.tolist()}))
        return
    for hz, db, deg in zip(freqs_hz, level_db, phase_deg, strict=True):
        print(f"{hz:10.2f} Hz {db:8.2f} dB {deg:8.1f} deg")


def _frequency(text: str, rate: float) -> float:
    try:
        hz = float(text)
    except ValueError:
        raise ParameterError(f"--at: {text!r} is not a frequency in Hz") from None
    if not 0.0 < hz <= rate / 2.0:
        raise ParameterError(f"--at: {hz:g} must be above 0 and at most {rate / 2.0:g} Hz (half of the rate)")
    return hz


@app.command()
@_one_line_errors
def measure(
    file: Annotated[Path, typer.Argument(help="Audio file.")],
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print rate, channels, length, integrated loudness and true peak of a file."""
    from mivlo.core.loudness import integrated_loudness, true_peak_db

    info, samples = _read(file)
    figures = {
        "rate": info.sample_rate_hz,
        "channels": info.n_channels,
        "seconds": info.n_frames / info.sample_rate_hz,
        "integrated_lufs": integrated_loudness(samples, sample_rate_hz=info.sample_rate_hz),
        "true_peak_dbtp": true_peak_db(samples),
    }
    if as_json:
        print(json.dumps(figures))
        return
    for name, value in figures.items():
        print(f"{name:16} {'none' if value is None else f'{value:g}'}")


@app.command()
@_one_line_errors
def apply(
    treatment: Annotated[Path, typer.Argument(help="Treatment file (docs/treatment.schema.json).")],
    source: Annotated[Path, typer.Argument(metavar="IN", help="Audio file to treat.")],
    target: Annotated[Path, typer.Argument(metavar="OUT", help="File to write: .wav or .flac.")],
    with_stand_ins: Annotated[
        bool, typer.Option("--with-stand-ins", help="Also what stands for what somebody does later.")
    ] = False,
) -> None:
    """Process a file with a treatment; start, length, channels and rate stay as they are."""
    from mivlo.core.audiofile import BITS_OF, OutputFormat, write_blocks
    from mivlo.core.engine.render import render_moves
    from mivlo.core.engine.source import ArraySource
    from mivlo.core.metadata.containers import carried_by
    from mivlo.core.metadata.rendered import as_rendered

    read = read_treatment(treatment)
    moves = tuple(move for move in read.moves if with_stand_ins or not move.stand_in)
    if target.exists() and source.exists() and target.samefile(source):
        raise TreatmentError(f"{target}: would overwrite the file that is read; choose another name")
    info, samples = _read(source)
    outputs: dict[str, OutputFormat] = {".wav": "wav-24", ".flac": "flac-24"}
    if target.suffix.lower() not in outputs:
        raise TreatmentError(f"{target}: must end in .wav or .flac")
    output = outputs[target.suffix.lower()]
    if output == "wav-24" and info.subtype in ("FLOAT", "DOUBLE"):
        output = "wav-float"
    blocks = render_moves(ArraySource(samples), moves, sample_rate_hz=info.sample_rate_hz, amount=read.amount)
    clipped = write_blocks(
        target,
        blocks,
        n_channels=info.n_channels,
        sample_rate_hz=info.sample_rate_hz,
        output=output,
        dither=any(move.on for move in moves),
        carries=as_rendered(
            carried_by(source),
            start_frame=0,
            n_frames=info.n_frames,
            sample_rate_hz=info.sample_rate_hz,
            n_channels=info.n_channels,
            bits=BITS_OF[output],
        ),
    )
    if any(isinstance(move, Listens) and move.heard_id for move in moves):
        print("mivlo: note: moves that listen to another track hear silence in a single file", file=sys.stderr)
    if clipped:
        print(f"mivlo: note: {clipped} samples were over full scale and were clipped", file=sys.stderr)


@app.command()
@_one_line_errors
def impulse(
    treatment: Annotated[Path, typer.Argument(help="Treatment file (docs/treatment.schema.json).")],
    target: Annotated[Path, typer.Argument(metavar="OUT", help="File to write: .wav, 32-bit float.")],
    rate: Annotated[int, typer.Option(help="Sampling rate in Hz, 44100 to 192000.")],
    phase: Annotated[str, typer.Option(help="minimum or linear.")] = "minimum",
    seconds: Annotated[
        float | None, typer.Option(help="Its length at most; left out: all but -120 dB, up to 30 s.")
    ] = None,
    steady_only: Annotated[
        bool, typer.Option("--steady-only", help="Leave out moves that are not steady, in place of refusing them.")
    ] = False,
) -> None:
    """Write the impulse response of a treatment's steady moves, for whatever convolves."""
    from mivlo.core.audiofile import write_blocks
    from mivlo.core.impulse import impulse_of, steady_of

    if phase not in ("minimum", "linear"):
        raise ParameterError(f"--phase {phase!r} must be minimum or linear")
    if target.suffix.lower() != ".wav":
        raise TreatmentError(f"{target}: must end in .wav")
    moves = steady_of(read_treatment(treatment).acting(), steady_only=steady_only)
    made = impulse_of(moves, sample_rate_hz=rate, phase="linear" if phase == "linear" else "minimum", seconds=seconds)
    n_channels, n_frames = made.samples.shape
    write_blocks(target, [made.samples], n_channels=n_channels, sample_rate_hz=rate, output="wav-float", dither=False)
    ways = "" if n_channels == 1 else "; channels: left to left, left to right, right to left, right to right"
    print(f"{n_frames} frames, its middle at frame {made.middle_frame}{ways}")
    if seconds is not None or made.left_out > LEFT_OUT_TOLD:
        print(f"mivlo: note: what is left out sums up to {made.left_out_db:.0f} dB", file=sys.stderr)


@app.command()
@_one_line_errors
def find(
    file: Annotated[Path, typer.Argument(help="Audio file of one track.")],
    from_s: Annotated[float, typer.Option("--from", help="Start of the stretch in seconds.")] = 0.0,
    to_s: Annotated[
        float | None, typer.Option("--to", help="End of the stretch in seconds; left out: the end.")
    ] = None,
    low: Annotated[float, typer.Option(help="Lowest frequency in Hz.")] = 20.0,
    high: Annotated[float, typer.Option(help="Highest frequency in Hz.")] = 20_000.0,
    role: Annotated[
        str, typer.Option(help='What the track is, as in the application ("bass"); empty: not known.')
    ] = "",
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print what behaves like a fault in a track, with its evidence and a proposed move; strongest first."""
    from mivlo.core.engine.source import ArraySource
    from mivlo.core.finder import describe
    from mivlo.core.finder.suspects import find as find_suspects

    info, samples = _read(file)
    start, end = _stretch(info, from_s, to_s)
    findings = find_suspects(
        ArraySource(samples), start=start, end=end, sample_rate_hz=info.sample_rate_hz, low_hz=low,
        high_hz=high, role=_role(role),
    )  # fmt: skip
    if as_json:
        print(json.dumps(describe.as_plain(findings)))
        return
    for suspect in findings.suspects:
        print(f"{suspect.hz:9.1f} Hz  {suspect.confidence:4.2f}  {suspect.kind:10} {describe.sentence(suspect)}")
    for event in findings.events:
        print(f"{event.start_s:8.3f} s  {event.kind}")


@app.command()
@_one_line_errors
def survey(
    file: Annotated[Path, typer.Argument(help="Audio file of one track.")],
    from_s: Annotated[float, typer.Option("--from", help="Start of the stretch in seconds.")] = 0.0,
    to_s: Annotated[
        float | None, typer.Option("--to", help="End of the stretch in seconds; left out: the end.")
    ] = None,
    low: Annotated[float, typer.Option(help="Lowest frequency in Hz.")] = 150.0,
    high: Annotated[float, typer.Option(help="Highest frequency in Hz.")] = 10_000.0,
    amount: Annotated[float, typer.Option(help="Per cent of what stands out, for all cuts alike.")] = 60.0,
    most: Annotated[int, typer.Option(help="So many cuts at most, the strongest.")] = 24,
    role: Annotated[
        str, typer.Option(help='What the track is, as in the application ("bass"); empty: not known.')
    ] = "",
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print shallow cuts at what a track's places add to whatever passes them, strongest first; and the same as one
    plane."""
    from mivlo.core.engine.source import ArraySource
    from mivlo.core.finder.describe import survey_as_plain
    from mivlo.core.finder.survey import survey as survey_of

    info, samples = _read(file)
    start, end = _stretch(info, from_s, to_s)
    found = survey_of(
        ArraySource(samples), start=start, end=end, sample_rate_hz=info.sample_rate_hz, low_hz=low, high_hz=high,
        amount=amount, most=most, role=_role(role),
    )  # fmt: skip
    if as_json:
        print(json.dumps(survey_as_plain(found)))
        return
    for cut in found.cuts:
        print(f"{cut.move.hz:9.1f} Hz  {cut.move.gain_db:5.1f} dB  Q {cut.move.q:4.1f}  {cut.sure:4.2f}  {cut.reason}")


@app.command()
@_one_line_errors
def clash(
    files: Annotated[
        list[Path], typer.Argument(metavar="FILE...", help="Audio files of the tracks, all from the same start.")
    ],
    role: Annotated[
        list[str] | None, typer.Option(help='What each track is, in the order of the files ("bass"); may be left out.')
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print who hides whom when the tracks play together: where, when and how much; strongest first."""
    from mivlo.core.ensemble.describe import as_plain, sentence
    from mivlo.core.ensemble.files import clashes_of_files
    from mivlo.core.ensemble.right_of_way import first_order

    names = [str(file) for file in files]
    order = first_order(_roles_of(files, role or []))
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


@app.command("round")
@_one_line_errors
def round_(
    files: Annotated[
        list[Path],
        typer.Argument(metavar="FILE...", help="Audio files of the tracks, all from the same start; or one bundle."),
    ],
    role: Annotated[
        list[str] | None, typer.Option(help='What each track is, in the order of the files ("bass"); may be left out.')
    ] = None,
    top: Annotated[int, typer.Option(help="So many suspects at most, the strongest.")] = 40,
    treatment: Annotated[str, typer.Option(help="Of a bundle: which treatment is meant.")] = "A",
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print what is to be judged over all tracks, first what is heard in the mix, and the fewest cuts for room."""
    from mivlo.core.bundle import is_bundle
    from mivlo.core.ensemble.describe import sentence
    from mivlo.core.finder import describe
    from mivlo.core.round.files import as_plain, round_of_files

    if top < 0:
        raise ParameterError(f"--top {top} must be 0 or more")
    if len(files) == 1 and is_bundle(files[0]):
        _round_of_bundle(files[0], treatment, as_json=as_json)
        return
    found = round_of_files(files, _roles_of(files, role or []), top=top)
    if as_json:
        print(json.dumps(as_plain(found)))
        return
    for item in found.items:
        one, mix = item.suspect, item.in_mix
        heard = f"{mix.heard}{' in the mix' if mix.heard == 'lost' else ''}, {mix.change_db:.1f} dB"
        print(f"{found.names[item.track]}: {one.kind} {describe.sentence(one)} ({one.confidence:.2f}; {heard})")
    for clash_ in found.clashes:
        print(sentence(clash_, found.names))
    for step, move in zip(found.plan.steps, found.moves, strict=True):
        yielding, front = found.names[step.candidate.yielding], found.names[step.candidate.front]
        low, high = step.candidate.low_hz, step.candidate.high_hz
        print(f"plan: {yielding} gives way to {front} from {low:.0f} to {high:.0f} Hz ({move.kind})")


def _round_of_bundle(path: Path, treatment: str, *, as_json: bool) -> None:
    from mivlo.core.round.rows import round_rows

    with _opened(path, treatment) as local:
        view = round_rows(local.session, local.known)
    if as_json:
        print(view.model_dump_json())
        return
    for row in view.rows:
        told = row.told or row.proposes
        print(f"{row.status:8} {row.says}{f' ({told})' if told else ''}")


@contextmanager
def _opened(path: Path, treatment: str) -> "Iterator[LocalSession]":
    """Give the session of a bundle, in the treatment that is meant; raises BundleError, NotFoundError."""
    from mivlo.core.audiofile import ImportLimits
    from mivlo.core.bundle import Bundle
    from mivlo.core.local_session import LocalSession

    with tempfile.TemporaryDirectory() as folder, Bundle(path) as bundle:
        yield LocalSession(bundle, Path(folder), letter=_letter(treatment), limits=ImportLimits())


def _letter(text: str) -> "Treatment":
    from mivlo.core.model import TREATMENTS

    for letter in TREATMENTS:
        if letter == text:
            return letter
    raise ParameterError(f"--treatment {text!r} must be one of: {', '.join(TREATMENTS)}")


@app.command()
@_one_line_errors
def render(
    bundle: Annotated[Path, typer.Argument(help="Bundle of a session.")],
    folder: Annotated[Path, typer.Argument(metavar="OUTDIR", help="Folder for the files; made where it is missing.")],
    treatment: Annotated[str, typer.Option(help="Which treatment is rendered.")] = "A",
    what: Annotated[str, typer.Option(help="tracks, groups, or mix.")] = "tracks",
    tracks: Annotated[
        list[str] | None, typer.Option(help="Name of a track or group that is rendered; all where left out.")
    ] = None,
    output: Annotated[str, typer.Option(help="wav-24, wav-float or flac-24.")] = "wav-24",
    faders: Annotated[bool | None, typer.Option("--faders/--no-faders", help="As the session's faders stand.")] = None,
    tail: Annotated[float, typer.Option(help="Of groups and the mix: so many seconds behind the end.")] = 0.0,
    level_match: Annotated[
        bool | None, typer.Option("--level-match/--no-level-match", help="No louder than before the moves.")
    ] = None,
) -> None:
    """Render the tracks, groups or mix of a bundle, as the application hands them over."""
    from mivlo.core.hand_over import HandOverRequest, render_all

    with _opened(bundle, treatment) as local:
        session = local.session
        strips = session.groups if what == "groups" else session.tracks
        unknown = sorted(set(tracks or ()) - {one.name for one in strips})
        if unknown:
            names = ", ".join(one.name for one in strips)
            raise ParameterError(f"--tracks {unknown[0]!r:.80} is not in this session; there are: {names}")
        ids = [one.id for one in strips if not tracks or one.name in tracks]
        try:
            request = HandOverRequest.model_validate(
                {"what": what, "treatment": treatment, f"{'group' if what == 'groups' else 'track'}_ids": ids,
                 "output": output, "faders": faders, "tail_s": tail, "level_match": level_match}
            )  # fmt: skip
        except ValidationError as error:
            raise ParameterError(explain_validation(error)) from error
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder) as scratch:
            made = render_all(session, request, Path(scratch) / "files", local.sound, lambda _: None, local.result)
            for index, file in enumerate(made.files):
                (Path(scratch) / "files" / f"{index}").replace(folder / file.name)
                print(folder / file.name)
    clipped = sum(file.clipped_samples for file in made.files)
    if clipped:
        print(f"mivlo: note: {clipped} samples were over full scale and were clipped", file=sys.stderr)


@app.command()
@_one_line_errors
def bundle(
    session: Annotated[str, typer.Argument(help="Name or id of a session of the running application.")],
    target: Annotated[Path, typer.Argument(metavar="OUT", help="File to write, such as song.zip.")],
    port: Annotated[int, typer.Option(help="Port of the application on 127.0.0.1.")] = 8765,
) -> None:
    """Save a session of the running application as a bundle."""
    from mivlo.client import save_bundle

    save_bundle(session, target, port=port)


@app.command()
@_one_line_errors
def likeness(
    file: Annotated[Path, typer.Argument(help="Audio file of the sound that is drawn.")],
    reference: Annotated[Path, typer.Argument(help="Audio file of the sound towards whose balance it is drawn.")],
    amount: Annotated[float, typer.Option(help="Per cent of the way.")] = 100.0,
    moves: Annotated[int, typer.Option(help="So many moves at most: bells and shelves.")] = 6,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Print moves that draw a sound's balance towards another's, and how far apart they are before and after."""
    from mivlo.core.engine.render import render_moves
    from mivlo.core.engine.source import ArraySource
    from mivlo.core.proof.likeness import balance_of, distance_db, drawn_towards

    if not 0.0 <= amount <= 100.0:
        raise ParameterError(f"--amount {amount:g} must be from 0 to 100 per cent")
    if not 1 <= moves <= 12:
        raise ParameterError(f"--moves {moves} must be from 1 to 12")
    (info, samples), (other_info, other) = _read(file), _read(reference)
    rate = info.sample_rate_hz
    one = balance_of([samples], sample_rate_hz=rate)
    target = balance_of([other], sample_rate_hz=other_info.sample_rate_hz)
    found = drawn_towards(one, target, amount=amount, most_moves=moves)
    drawn = balance_of(render_moves(ArraySource(samples), found.moves, sample_rate_hz=rate), sample_rate_hz=rate)
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


@app.command()
@_one_line_errors
def report(
    files: Annotated[
        list[Path], typer.Argument(metavar="FILE...", help="Audio files, each treated by itself; or one bundle.")
    ],
    treatment: Annotated[
        str, typer.Option(help="Treatment file (docs/treatment.schema.json); of a bundle, which treatment is meant.")
    ] = "A",
    page: Annotated[Path | None, typer.Option(help="Also write it as a page to print, to this .html file.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON (docs/report.schema.json).")] = False,
) -> None:
    """Print what was done: the moves, and loudness, peaks and ranges before and after."""
    from mivlo.core.bundle import is_bundle
    from mivlo.core.proof.report import as_lines, to_page
    from mivlo.core.proof.reporting import report_of_files

    if len(files) == 1 and is_bundle(files[0]):
        made = _report_of_bundle(files[0], treatment)
    else:
        read = read_treatment(Path(treatment))
        sounds = [(file.name, *_samples_and_rate(file)) for file in files]
        made = report_of_files(sounds, read, name=", ".join(file.name for file in files))
    if page is not None:
        page.write_text(to_page(made), encoding="utf-8")
    if as_json:
        print(made.model_dump_json())
        return
    for line in as_lines(made):
        print(line)


def _report_of_bundle(path: Path, treatment: str) -> "Report":
    from mivlo.core.proof.blind import told_of_checks
    from mivlo.core.proof.reporting import report_of_session

    with _opened(path, treatment) as local:
        of_moves, others = told_of_checks(local.session, [(one.asked, one.result) for one in local.checks])
        return report_of_session(local.session, local.known, blind=of_moves, checks=others)


def _samples_and_rate(file: Path) -> tuple[Array, int]:
    info, samples = _read(file)
    return samples, info.sample_rate_hz


def _roles_of(files: list[Path], roles: list[str]) -> "list[Role | None]":
    """Return the role of each file; raises ParameterError, TreatmentError."""
    if len(roles) > len(files):
        raise ParameterError(
            f"--role is given {len(roles)} times for {len(files)} files: give it once for each file at most"
        )
    missing = next((file for file in files if not file.is_file()), None)
    if missing is not None:
        raise TreatmentError(f"{missing}: no such file")
    return [_role(text) for text in roles] + [None] * (len(files) - len(roles))


def _stretch(info: "AudioFileInfo", from_s: float, to_s: float | None) -> tuple[int, int]:
    """Return the frames of a stretch of a file, which must lie within it."""
    length_s = info.n_frames / info.sample_rate_hz
    until_s = length_s if to_s is None else to_s
    if not 0.0 <= from_s < until_s or from_s >= length_s:
        span = f"0 to {length_s:g} s"
        raise ParameterError(f"--from {from_s:g} --to {until_s:g}: must lie within the file, {span}, and not be empty")
    return round(from_s * info.sample_rate_hz), round(until_s * info.sample_rate_hz)


def _role(text: str) -> "Role | None":
    from mivlo.core.roles import ROLES

    if not text:
        return None
    for role in ROLES:
        if role == text:
            return role
    raise ParameterError(f"--role {text!r} must be one of: {', '.join(ROLES)}")


def _read(file: Path) -> tuple["AudioFileInfo", Array]:
    """Return what a file is and all its samples (channels, frames)."""
    from mivlo.core.audiofile import ImportLimits, inspect_audio, read_blocks

    if not file.is_file():
        raise TreatmentError(f"{file}: no such file")
    info = inspect_audio(file, limits=ImportLimits(), name=str(file))
    return info, np.concatenate(list(read_blocks(file, name=str(file))), axis=1)
