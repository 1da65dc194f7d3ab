"""The report: what was done and why, with what was measured of it, as JSON and as a page to print."""

import html
from collections.abc import Iterator
from typing import Literal

from pydantic import BaseModel

from mivlo.core.proof.measured import SoundFigures
from mivlo.core.units import hz_text, time_text

__all__ = ["MoveReport", "RemarkReport", "Report", "StripReport", "as_lines", "to_page"]

NAMES = {
    "loudness_lufs": ("Loudness", "LUFS"), "true_peak_db": ("True peak", "dBTP"),
    "loudness_range_lu": ("Loudness range", "LU"),
}  # fmt: skip


class MoveReport(BaseModel):
    """A move: what it is in words, why it is there, and what was found of it."""

    sentence: str
    on: bool
    reason: str
    verdict: str = ""  # of what became of the fault that it answers
    in_mix: str = ""  # whether it is heard in the mix
    under_pressure: str = ""
    blind: str = ""


class RemarkReport(BaseModel):
    """What somebody said at a time of the session, and where it is about a frequency, there."""

    at_s: float
    hz: float | None
    text: str
    author: str


class StripReport(BaseModel):
    """A track, a group or the mix with its moves, in the order in which they act."""

    name: str
    role: str
    amount: float
    ledger_on: bool
    moves: list[MoveReport]
    remarks: list[RemarkReport] = []
    before: SoundFigures | None = None  # of a file by itself
    after: SoundFigures | None = None


class Report(BaseModel):
    """All that was done in a treatment of a session, or of files; figures of the whole without and with its moves."""

    mivlo_report: Literal[1] = 1
    name: str
    treatment: str
    before: SoundFigures | None
    after: SoundFigures | None
    strips: list[StripReport]
    checks: list[str] = []  # blind checks of more than one move


def to_page(report: Report) -> str:
    """Return a page to print on A4. Raises nothing. Source: ours."""
    parts = [f"<h1>{_text(report.name)}</h1>", f'<p class="of">{_text(report.treatment)}</p>']
    if report.before is not None and report.after is not None:
        parts.append(f"<h2>The whole</h2>{_figures(report.before, report.after)}")
    for strip in report.strips:
        parts.append(_strip(strip))
    if report.checks:
        parts.append("<h2>Heard blind</h2><ul>" + "".join(f"<li>{_text(one)}</li>" for one in report.checks) + "</ul>")
    if not any(strip.moves or strip.remarks for strip in report.strips):
        parts.append("<p>No moves yet.</p>")
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>What was done: {_text(report.name)}</title>'
        f"<style>{STYLE}</style><main>{''.join(parts)}</main></html>"
    )


STYLE = (
    "@page{size:A4;margin:18mm 16mm}body{font:14px/1.45 sans-serif;color:#22303C;margin:2rem;background:#fff}"
    "main{max-width:178mm}h1{font-size:24px;margin:0}h2{font-size:17px;margin:18px 0 4px;break-after:avoid}"
    ".of,.soft{color:#56626C}table{border-collapse:collapse;width:100%}th,td{text-align:left;vertical-align:top;"
    "padding:3px 8px 3px 0;border-bottom:1px solid #D8D2C4}tr{break-inside:avoid}.figures{font-family:monospace}"
    ".off{color:#56626C;text-decoration:line-through}@media print{body{margin:0}}"
)


def _figures(before: SoundFigures, after: SoundFigures) -> str:
    rows = [(label, unit, getattr(before, name), getattr(after, name)) for name, (label, unit) in NAMES.items()] + [
        (f"Crest factor, {region}", "dB", value, after.crest_db.get(region))
        for region, value in before.crest_db.items()
    ]
    cells = "".join(
        f'<tr><td>{label}</td><td class="figures">{_figure(one)}</td><td class="figures">{_figure(other)}</td>'
        f'<td class="soft">{unit}</td></tr>'
        for label, unit, one, other in rows
    )
    return f"<table><tr><th></th><th>before</th><th>after</th><th></th></tr>{cells}</table>"


def _strip(strip: StripReport) -> str:
    if not strip.moves and not strip.remarks and strip.before is None:
        return ""
    amount = "" if strip.amount == 100.0 else f", amount {strip.amount:.0f} %"
    off = "" if strip.ledger_on else ", switched off"
    rows = "".join(_row(move) for move in strip.moves)
    role = "" if strip.role == "other" else f' <span class="soft">{_text(strip.role)}</span>'
    figures = _figures(strip.before, strip.after) if strip.before is not None and strip.after is not None else ""
    remarks = "".join(f"<li>{_text(remark_text(one))}</li>" for one in strip.remarks)
    said = f'<ul class="remarks">{remarks}</ul>' if remarks else ""
    head = f"<h2>{_text(strip.name)}{role}<span class='soft'>{amount}{off}</span></h2>"
    return f"{head}{figures}<table>{rows}</table>{said}"


def remark_text(remark: RemarkReport) -> str:
    """Return a remark in words. Raises nothing. Source: ours."""
    place = "" if remark.hz is None else f", {hz_text(remark.hz)}"
    by = f" ({remark.author})" if remark.author else ""
    return f"{time_text(remark.at_s)}{place}: {remark.text}{by}"


def _row(move: MoveReport) -> str:
    found = [one for one in (move.verdict, move.in_mix, move.under_pressure, move.blind) if one]
    css = "" if move.on else ' class="off"'
    return (
        f"<tr{css}><td style='width:34%'>{_text(move.sentence)}</td><td>{_text(move.reason)}"
        + "".join(f"<br><span class='soft'>{_text(one)}</span>" for one in found)
        + "</td></tr>"
    )


def _figure(value: float | None) -> str:
    return "none" if value is None else f"{value:.1f}".replace("-", "\u2212")


def _text(text: str) -> str:
    return html.escape(text)


def as_lines(report: Report) -> Iterator[str]:
    """Yield the report as plain lines. Raises nothing. Source: ours."""
    yield f"{report.name}: {report.treatment}"
    for strip in report.strips:
        if strip.before is not None and strip.after is not None:
            for name, (label, unit) in NAMES.items():
                was, now = (_figure(getattr(one, name)) for one in (strip.before, strip.after))
                yield f"{strip.name}: {label.lower()} {was} before, {now} after ({unit})"
        for move in strip.moves:
            yield f"{strip.name}: {move.sentence}{'' if move.on else ' (off)'}"
        for remark in strip.remarks:
            yield f"{strip.name}, {remark_text(remark)}"
