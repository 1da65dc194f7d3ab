"""The settings list: moves written out for any equalizer elsewhere, as CSV and as a printable page."""

import csv
import html
import io
from collections.abc import Sequence

from mivlo.core.engine.plan import in_linear_phase
from mivlo.core.model import StripBase
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.figures import Figure, Meaning, meanings_of, shown_figures
from mivlo.core.units import hz_to_note, q_to_octaves

__all__ = ["COLUMNS", "Q_CONVENTION", "list_rows", "to_csv", "to_page"]

COLUMNS = (
    "treatment",
    "track",
    "number",
    "on",
    "kind",
    "hz",
    "note",
    "gain_db",
    "q",
    "width_octaves",
    "slope_db_per_octave",
    "acts_on",
    "times",
    "amount_pct",
    "further",
    "reason",
)
Q_CONVENTION = (
    "Q of a bell: the width is measured at half the gain in dB, (s² + s·A/Q + 1)/(s² + s/(A·Q) + 1) with "
    "A = 10^(gain/40). Flat bell: the same width, |H|² = (G² + G·u⁴)/(1 + G·u⁴) with u = Q·(f/f0 - f0/f) "
    "and G = 10^(gain/20). "
    "Shelves: half the gain at the frequency. Notch: Q = frequency / (-3 dB width). "
    "Dynamic moves: gain dB is their depth. They rest (at 0 dB, where nothing else is said) while what they listen to "
    "is under the threshold; over it they go 1 - 1/ratio dB further for each dB, at most to their depth; attack and "
    "release are the time constants of that way. Where nothing else is said, they listen to the band they act on. "
    "All figures are as they act at the amount of their track; where times are told, a move acts between these alone. "
    "Cuts: Butterworth, -3 dB at the frequency where Q is 0.7071. Octaves: N = (2/ln 2)·asinh(1/(2Q))."
)


COLUMN_MEANINGS: tuple[Meaning, ...] = ("place", "gain", "width", "sharpness", "slope")
OTHERS_WORDS = ("treatment", "track", "further", "reason")
OWN_COLUMN = ("channel",)  # beside all figures whose meaning has one


def list_rows(
    strips: Sequence[tuple[str, StripBase]], *, sample_rate_hz: float, treatment: str = "A"
) -> list[dict[str, str]]:
    """Return a row for every move of the named tracks and groups, in the ledger's order; stand-ins are left out.

    Parameters
    ----------
    treatment : what the treatment is called whose ledgers they show

    Raises
    ------
    ParameterError: a move that does not fit the rate
    """
    names = {state.id: name for name, state in strips}
    rows = []
    for name, state in strips:
        for number, entry in enumerate((one for one in state.acting_ledger if not one.move.stand_in), 1):
            move, figures = entry.move, entry.move.model_dump()
            means = {meaning: figures[name] for meaning, name in meanings_of(type(move)).items()}
            linear = in_linear_phase(move, state, sample_rate_hz=sample_rate_hz)
            q, gain_db = means.get("width", means.get("sharpness")), means.get("gain")
            hz = move.place_hz if isinstance(move, Placed) else None
            rows.append(
                {
                    "treatment": treatment,
                    "track": name,
                    "number": str(number),
                    "on": "yes" if move.on and state.acts else "no",
                    "kind": move.label,
                    "hz": "" if hz is None else f"{hz:.2f}",
                    "note": "" if hz is None else _note(hz),
                    "gain_db": "" if gain_db is None else f"{gain_db:.2f}",
                    "q": "" if q is None else f"{q:.4g}",
                    "width_octaves": "" if q is None else f"{q_to_octaves(q):.3f}",
                    "slope_db_per_octave": str(means.get("slope", "")),
                    "acts_on": move.channel + (", linear phase" if linear else ""),
                    "times": "; ".join(f"{start:.2f}-{end:.2f} s" for start, end in move.times_s),
                    "amount_pct": f"{state.amount:g}",
                    "further": _further(move, names),
                    "reason": entry.reason,
                }
            )
    return rows


def _note(hz: float) -> str:
    note, cents = hz_to_note(hz)
    return f"{note} {cents:+.0f} ct"


def _further(move: Move, names: dict[str, str]) -> str:
    """Return the figures that have no column of their own, as words that any equalizer's page has."""
    parts = []
    for figure in shown_figures(move):
        value = getattr(move, figure.name)
        if figure.name in OWN_COLUMN or figure.means in COLUMN_MEANINGS or value in ("", (), False):
            continue
        if figure.means == "key":
            value = names.get(str(value), "a track that is gone")
        parts.append(f"{figure.title[:1].lower()}{figure.title[1:]}{_value(value, figure)}")
    return "; ".join(parts)


def _value(value: object, figure: Figure) -> str:
    if value is True:
        return ""
    if value is None:
        return f": {figure.empty}"
    if isinstance(value, tuple):
        each = (" ".join(f"{x:g}" for x in one) if isinstance(one, tuple) else str(one) for one in value)
        return f": {', '.join(each)}"
    if isinstance(value, float):
        unit = "" if figure.unit == "Q" else figure.unit if figure.unit[:1] == ":" else f" {figure.unit}"
        return f" {value:g}{unit}".rstrip()
    return f" {value}"


def _is_formula(text: str) -> bool:
    """Tell whether a spreadsheet might compute a text; some do so behind tabs and blanks, too."""
    return text.lstrip()[:1] in ("=", "+", "-", "@") or text[:1] in ("\t", "\r")


def to_csv(rows: Sequence[dict[str, str]]) -> str:
    """Return RFC 4180 CSV; a cell that a spreadsheet would take for a formula is led by an apostrophe."""
    out = io.StringIO()
    writer = csv.DictWriter(out, COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    for row in rows:
        writer.writerow({k: f"'{v}" if k in OTHERS_WORDS and _is_formula(v) else v for k, v in row.items()})
    return out.getvalue()


def to_page(session_name: str, rows: Sequence[dict[str, str]]) -> str:
    """Return one printable HTML page with the Q convention stated."""
    titles = (
        "Treatment",
        "Track",
        "No.",
        "On",
        "Kind",
        "Hz",
        "Note",
        "Gain dB",
        "Q",
        "Octaves",
        "dB/octave",
        "Acts on",
        "Times",
        "Amount %",
        "Further",
        "Reason",
    )
    head = "".join(f"<th>{title}</th>" for title in titles)
    body = "".join("<tr>" + "".join(f"<td>{html.escape(row[name])}</td>" for name in COLUMNS) + "</tr>" for row in rows)
    body = body or f'<tr><td colspan="{len(COLUMNS)}">No moves yet.</td></tr>'
    title = html.escape(session_name)
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>Settings list: {title}</title><style>'
        "body{font:14px/1.4 sans-serif;color:#22303C;margin:2rem}table{border-collapse:collapse;width:100%}"
        "th,td{text-align:left;padding:.25rem .5rem;border-bottom:1px solid #bbb}"
        "td:nth-child(n+6):nth-child(-n+11){font-family:monospace}@media print{body{margin:0}}</style>"
        f"<h1>Settings list: {title}</h1><p>{html.escape(Q_CONVENTION)}</p>"
        f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table></html>"
    )
