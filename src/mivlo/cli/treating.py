"""Verbs of one file and one treatment: what a treatment does, and what comes of a file."""

import json
import sys
from pathlib import Path
from typing import Annotated

import numpy as np
import typer

from mivlo.cli.application import app, one_line_errors
from mivlo.cli.options import AsJson
from mivlo.cli.reading import opened
from mivlo.core.errors import ParameterError, TreatmentError
from mivlo.core.moves.capabilities import Listens
from mivlo.core.treatment import read_treatment, treatment_response

__all__: list[str] = []

LEFT_OUT_TOLD = 1e-6  # of an impulse response: more than that is told


@app.command()
@one_line_errors
def response(
    treatment: Annotated[Path, typer.Argument(help="Treatment file (docs/treatment.schema.json).")],
    at: Annotated[str, typer.Option(help="Frequencies in Hz, separated by commas.")],
    rate: Annotated[float, typer.Option(help="Sampling rate in Hz.")] = 48_000.0,
    as_json: AsJson = False,
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
@one_line_errors
def measure(
    file: Annotated[Path, typer.Argument(help="Audio file.")],
    as_json: AsJson = False,
) -> None:
    """Print rate, channels, length, integrated loudness and true peak of a file."""
    from mivlo.core.engine.source import blocks_of
    from mivlo.core.level_match import loudness_of

    info, source = opened(file)
    read = loudness_of(blocks_of(source, 0, info.n_frames), sample_rate_hz=info.sample_rate_hz)
    figures = {
        "rate": info.sample_rate_hz,
        "channels": info.n_channels,
        "seconds": info.n_frames / info.sample_rate_hz,
        "integrated_lufs": read.loudness_lufs,
        "true_peak_dbtp": read.true_peak_db,
    }
    if as_json:
        print(json.dumps(figures))
        return
    for name, value in figures.items():
        print(f"{name:16} {'none' if value is None else f'{value:g}'}")


@app.command()
@one_line_errors
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
    from mivlo.core.metadata.containers import carried_by
    from mivlo.core.metadata.rendered import as_rendered

    read = read_treatment(treatment)
    moves = tuple(move for move in read.moves if with_stand_ins or not move.stand_in)
    if target.exists() and source.exists() and target.samefile(source):
        raise TreatmentError(f"{target}: would overwrite the file that is read; choose another name")
    info, sound = opened(source)
    outputs: dict[str, OutputFormat] = {".wav": "wav-24", ".flac": "flac-24"}
    if target.suffix.lower() not in outputs:
        raise TreatmentError(f"{target}: must end in .wav or .flac")
    output = outputs[target.suffix.lower()]
    if output == "wav-24" and info.subtype in ("FLOAT", "DOUBLE"):
        output = "wav-float"
    blocks = render_moves(sound, moves, sample_rate_hz=info.sample_rate_hz, amount=read.amount)
    clipped = write_blocks(
        target,
        blocks,
        n_channels=info.n_channels,
        sample_rate_hz=info.sample_rate_hz,
        output=output,
        dither=any(move.on for move in moves),
        n_frames=info.n_frames,
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
@one_line_errors
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
