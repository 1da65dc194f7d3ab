"""Breaks lines on purpose, one at a time, and says which break the nearest tests did not notice.

    .venv/bin/python tools/mutate.py [WORDS]      # only breaks whose file or words hold WORDS

Each break is made in a copy of the source; the tests named with it must fail on it. Status 1 where one did not.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
SMALL_PRINT, SESSIONS, WRITERS = "core/test_small_print.py", "server/test_sessions.py", "server/test_two_writers.py"
KERNELS = "core/test_kernels.py"
ROUTING, REVISING = "core/test_routing.py", "core/test_revising.py"
PLACES, LEARNING, PITCH = "core/test_places.py", "core/test_learning.py", "core/test_pitch.py"
FILES, METADATA = "server/test_files.py", "core/test_metadata.py"
STORAGE, MONITOR, PRODUCTS = "server/test_storage.py", "server/test_monitor.py", "server/test_products.py"


@dataclass(frozen=True, slots=True)
class Break:
    """A line as it is, as it would be wrong, and the tests that have to notice."""

    file: str
    line: str
    wrong: str
    tests: str


BREAKS = (
    Break("core/analyses/ear_map.py", "in session.lasting_groups", "in session.groups", "core/test_round.py"),
    Break("core/round/rows.py", "    for group in (*session.lasting_groups, session.master):\n        yield",
          "    for group in (*session.groups, session.master):\n        yield", "core/test_round.py"),
    Break("core/engine/layout.py", "Route(mix.master.id, OUT.id, sides.this_db)", "Route(mix.master.id, OUT.id)",
          "core/test_side_by_side.py"),
    Break("core/engine/layout.py", "and into.get(one.id, {}) == ways", "", "core/test_side_by_side.py"),
    Break("core/proof/blind.py", "for k in range(right, of + 1)", "for k in range(right + 1, of + 1)",
          "core/test_blind.py"),
    Break("core/analyses/masking.py", "_untreated(session) if asked.other is None", "session if asked.other is None",
          "core/test_side_by_side.py"),
    Break("core/spectra/pictures.py", "np.where(after_db > before_db, 1.0, 0.0)", "np.zeros_like(ink)",
          "core/test_side_by_side.py"),
    Break("core/model/intents/references.py", "refuse_changed(", "bool(", "core/test_side_by_side.py"),
    Break("core/model/strips.py", '"remarks": (), ', "", "core/test_side_by_side.py"),
    Break("core/model/placing.py", "max(start, 0), max(-start, 0)", "max(start, 0), 0", FILES),
    Break("core/model/placing.py", "or (start < 0 and _is_worked_on(session))", "", FILES),
    Break("core/metadata/rendered.py", "*[UNSET] * 5", "*[0] * 5", METADATA),
    Break("core/metadata/rendered.py", "max(time + start_frame, 0))", "time)", METADATA),
    Break("core/metadata/rendered.py", "if number not in numbers:", "if True:", METADATA),
    Break("core/metadata/containers.py", "        if name == b\"data\":\n            for part in parts:\n",
          "        if name == b\"data\":\n            for part in []:\n", METADATA),
    Break("core/riff.py", "position += 8 + size + size % 2\n        n_chunks", "position += 8 + size\n        n_chunks",
          METADATA),
    Break("core/kernels/halving.py", "(later[i] + earlier[i])", "(later[i] - earlier[i])", KERNELS),
    Break("core/kernels/halving.py", "odd[:reach] = odd[count : count + reach].copy()", "pass", KERNELS),
    Break("core/kernels/band_peaks.py", "most = max(most,", "most = min(most,", KERNELS),
    Break("core/kernels/ring_sums.py", "max(at - reach, 0)", "max(at - gap, 0)", KERNELS),
    Break("core/kernels/overtone_series.py", "strong[at] - weight * above[at]", "strong[at]", KERNELS),
    Break("core/kernels/decays.py", "level[at] + most_up", "level[peak] + most_up", KERNELS),
    Break("core/kernels/burst_bands.py", "turned += power * hz[at]", "turned += power", KERNELS),
    Break("core/file_faults.py", "int(run[-1]) + 1", "int(run[-1])", "core/test_round.py"),
    Break("core/impulse.py", "LEFT_OUT = 1e-6", "LEFT_OUT = 1e-3", "core/test_impulse.py"),
    Break("core/impulse.py", "for side in np.eye(2)", "for side in np.eye(2)[::-1]", "core/test_impulse.py"),
    Break("core/bundle.py", "if (sha256, n_bytes) != (file.sha256, file.bytes):", "if False:", "core/test_bundle.py"),
    Break("core/bundle.py", "made_by > BUNDLE_VERSION", "made_by > 99", "core/test_bundle.py"),
    Break("core/truncation.py", "kind & OGG_LAST else 1", "True else 1", "core/test_hostile_files.py"),
    Break("core/truncation.py", "int(max(position + length - size, 0))", "0", "core/test_hostile_files.py"),
    Break("core/audiofile.py", "if np.abs(block).max() > MOST_LEVEL:", "if False:", "core/test_hostile_files.py"),
    Break("server/backup.py", "if found != (file.sha256, file.bytes):", "if False:", "server/test_backup.py"),
    Break("server/services/staging.py", "if n_bytes > most:", "if False:", "server/test_staging.py"),
    Break("server/services/storage.py", "SessionRow.shelved_at < since", "SessionRow.shelved_at < None", STORAGE),
    Break("core/ensemble/in_mix.py", "np.maximum(excited - less[-1], 0.0)", "np.maximum(excited - less[-2], 0.0)",
          "core/test_in_mix.py"),
    Break("server/services/products.py", "    hold_products(db)\n    # All at once", "    # All at once", PRODUCTS),
    Break("core/analyses/cures.py", "self.answered.index(evidence)", "0", "core/test_analyses.py"),
    Break("core/analyses/cures.py", "lost[place.entry_id]", "lost[params.places[0].entry_id]", "core/test_analyses.py"),
    Break("core/finder/passages.py", "- first + put_at", "- first", "core/test_pressure.py"),
    Break("core/finder/passages.py", "left = np.maximum(left - held[:, chosen[-1]], 0.0)", "pass",
          "core/test_pressure.py"),
    Break("core/analyses/pressure.py", "first + at, last + at, rate)", "first, last, rate)", "core/test_pressure.py"),
    Break("core/finder/pitch_line.py", "> level_db.max() - LOUD_DB", "> -200.0", "core/test_pitch.py"),
    Break("core/ensemble/columns.py", "(loudness, now - was)", "(loudness, was - now)", "core/test_least_cut.py"),
    Break("core/ensemble/least_cut.py", "acts = _sounds(own) if is_dynamic", "acts = ~_sounds(own) if is_dynamic",
          "core/test_least_cut.py"),
    Break("core/remembered.py", "kept(_Same(of), *others, **figures)", "kept(_Same(of))", "core/test_analyses.py"),
    Break("core/kernels/room.py", "0.25 * round_[i]", "0.24 * round_[i]", "core/test_room.py"),
    Break("core/ensemble/in_mix.py", "spread[plainest, :, place]", "spread[plainest, place, :]", "core/test_in_mix.py"),
    Break("core/ensemble/in_mix.py", "excited - less - also", "excited - less", "core/test_in_mix.py"),
    Break("core/ensemble/in_mix.py", "    there[own] = 0.0\n", "", "core/test_in_mix.py"),
    Break("core/ensemble/least_cut.py", "    while bounds and len(chosen) < most:", "    while bounds:",
          "core/test_least_cut.py"),
    Break("core/ensemble/least_cut.py", "first != clash.hidden", "first is None", "core/test_least_cut.py"),
    Break("core/alignment.py", "bool(near[best] < 0.0)", "False", "core/test_alignment.py"),
    Break("core/alignment.py", "coarse + fine.shift_frames", "coarse", "core/test_alignment.py"),
    Break("core/round/rows.py", "rows.sort(key=lambda row:", "sorted(rows, key=lambda row:", "core/test_round.py"),
    Break("core/round/rows.py", "    rows = shared(session, rows)\n", "", "core/test_round.py"),
    Break("core/engine/mix.py", 'stand_ins == "acting" and isinstance(one, Track)', "isinstance(one, Track)",
          "core/test_alignment.py"),
    Break("core/engine/pipeline.py", "latest = min(latest, max(frame - self._latency_before(index), retuned_at))",
          "pass", "core/test_every_kind.py"),
    Break("core/engine/pipeline.py", "        if self.stage.latency_frames:\n", "        if False:\n",
          "core/test_amount.py"),
    Break("core/engine/plan.py", "(state.acts or entry.move.stand_in)", "state.acts", "core/test_pressure.py"),
    Break("core/engine/plan.py", "RestingSpec(spec) if entry.move.stand_in and not on else spec", "spec",
          "core/test_pressure.py"),
    Break("core/moves/base.py", "if amount in (0.0, 1.0):", "if amount == 1.0:", "core/test_amount.py"),
    Break("core/processors/room.py", "loss_db = 60.0 * self._line_frames", "loss_db = 50.0 * self._line_frames",
          "core/test_room.py"),
    Break("core/processors/oversampling.py", "LENGTHS = (107, 23, 15)", "LENGTHS = (23, 23, 15)",
          "core/test_giving_back.py"),
    Break("core/finder/coming_back.py", "- louder_db)", ")", "core/test_pressure.py"),
    Break("core/finder/verify.py", "left_db = fit.gain_db - taken_db", "left_db = max(fit.gain_db - taken_db, 0.0)",
          "core/test_pressure.py"),
    Break("core/give_back.py", "or not holds(levels_db)", "", "core/test_giving_back.py"),
    Break("core/engine/audible.py", "if group.stand_in and not group.mute", "if group.stand_in", "core/test_room.py"),
    Break("core/engine/offcuts.py", "and not entry.move.stand_in", "", "core/test_pressure.py"),
    Break("core/hand_over.py", "+ round(request.tail_s * state.sample_rate_hz)", "", "server/test_groups.py"),
    Break("core/filters/analog.py", "if i == len(qs) - 1 else", "if i == 0 else", SMALL_PRINT),
    Break("core/loudness.py", "ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0",
          "ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -80.0", SMALL_PRINT),
    Break("core/loudness.py", "TRUE_PEAK_MARGIN_FRAMES = 1 << 18, 512", "TRUE_PEAK_MARGIN_FRAMES = 1 << 18, 0",
          SMALL_PRINT),
    Break("core/engine/guard.py", "return min(cap, ceiling / peak) if peak > ceiling else cap", "return cap",
          SMALL_PRINT),
    Break("core/engine/graph.py", "max((from_here_s[target] for target in targets), default=0.0)", "0.0", ROUTING),
    Break("core/engine/graph.py", "(*node.strip.specs, *specs[strip_id]), changed_keys",
          "specs[strip_id], changed_keys", REVISING),
    Break("core/engine/graph.py", "if is_open else 0.0", "", ROUTING),
    Break("core/engine/keys.py", "muted.isdisjoint((track.id, *groups))", "muted.isdisjoint((track.id,))", SMALL_PRINT),
    Break("core/engine/keys.py", "for ramp in (self.open, self.fader, *self.inside.values()):",
          "for ramp in (self.open, self.fader):", REVISING),
    Break("core/engine/bus.py", "way.read(frame, n_frames) * FADE_OUT", "way.read(frame, n_frames)", ROUTING),
    Break("core/engine/bus.py", "(way.key[2], way.key[0])", "(way.key[2], id(way))", REVISING),
    Break("core/engine/audible.py", "route.send_db is not None and route.target_id in muted", "False", ROUTING),
    Break("core/engine/strip.py", "default=0.0), MOST_PREROLL_S)", "default=0.0), 99.0)", ROUTING),
    Break("core/engine/offcuts.py", "elif not len(bands_hz):", "elif False:", "core/test_capabilities.py"),
    Break("core/model/intents/strips.py", "    session.check_routes()\n", "", ROUTING),
    Break("core/model/intents/base.py", "if now not in (seen, wanted):", "if False:", SESSIONS),
    Break("core/model/intents/ledgers.py", "if now.move != self.seen:", "if False:", SESSIONS),
    Break("core/model/session.py", "one.twin_id == twin_id", "False", "server/test_groups.py"),
    Break("server/services/sessions.py", "for patch in reversed(change.patches):", "for patch in []:", SESSIONS),
    Break("server/services/sessions.py", "query.with_for_update(key_share=True) if lock else query", "query", WRITERS),
    Break("server/services/sessions.py", "if known is not None:", "if False:", SESSIONS),
    Break("server/services/sessions.py", "if change.edit_id != step.of:", "if False:", SESSIONS),
    Break("server/services/sessions.py", "ChangeRow.number > row.history_at", "ChangeRow.number < 0", SESSIONS),
    Break("server/services/storage.py", "if audio_id in _used_now(db, session_id):", "if False:", STORAGE),
    Break("server/services/storage.py", "    _forget_changes_with(db, row, audio_id)\n", "", STORAGE),
    Break("server/services/handover.py", "if not (folder / ALL_FILES).is_file():", "if False:", STORAGE),
    Break("core/analyses/picture.py", "if _tile_of(place).start_frame >= sound.n_frames:", "if False:", STORAGE),
    Break("server/api/uploads.py", "int(declared) > limits.max_bytes + FORM_BYTES", "False", STORAGE),
    Break("server/monitor/player.py", "self._revising.accept(n_in_time)", "pass", MONITOR),
    Break("core/finder/proposals.py", "float(as_good.max())", "float(as_good.min())", SMALL_PRINT),
    Break("core/ensemble/yielding.py", "min(float(np.ceil(high * 10.0) / 10.0), deepest[2])", "deepest[2]",
          SMALL_PRINT),
    Break("core/ensemble/yielding.py", "if result.yielding > keeps else None", "", SMALL_PRINT),
    Break("core/engine/strip.py", "if not math.isfinite(y.sum()):", "if False:", "core/test_every_kind.py"),
    Break("core/riff.py", "return int(max(position + 8 + chunk_size - file_size, 0))", "return 0",
          "core/test_hostile_files.py"),
    Break("core/audiofile.py", "if info.n_channels > limits.max_channels:", "if False:", SMALL_PRINT),
    Break("core/audiofile.py", "random if dither else None", "random", SMALL_PRINT),
    Break("core/settings_list.py", "and _is_formula(v) else v", "and False else v", "core/test_files.py"),
    Break("core/ensemble/right_of_way.py", 'BACKING_LIMIT_DB if role == "full backing" else YIELD_LIMIT_DB',
          "YIELD_LIMIT_DB", "core/test_ensemble.py"),
    Break("core/ensemble/right_of_way.py", "return min(one, other", "return max(one, other", SMALL_PRINT),
    Break("core/ensemble/clashes.py", "start_s - found[-1][1] <= LONGEST_GAP_S", "False", SMALL_PRINT),
    Break("core/level_match.py", "min(known) - one.loudness_lufs if", "0.0 if",
          SMALL_PRINT),
    Break("core/processors/chain.py", "SWITCH_STEPS if section.on else 0", "SWITCH_STEPS", "core/test_engine.py"),
    Break("core/channel.py", 'difference if channel == "mid" else -difference', "difference", SMALL_PRINT),
    Break("core/cellar.py", "if track.needs_lows:", "if False:", "core/test_survey.py"),
    Break("core/units.py", "math.asinh(1.0 / (2.0 * q))", "math.asinh(1.0 / q)", "core/test_filters.py"),
    Break("server/jobs/compute.py", "            shutil.rmtree(folder, ignore_errors=True)\n            raise\n",
          "            raise\n", "server/test_files.py"),
    Break("server/services/products.py", "if not died:", "if died:", "server/test_workers.py"),
    Break("server/services/products.py", "if row.tries >= MOST_TRIES:", "if row.tries >= MOST_TRIES + 1:", PRODUCTS),
    Break("server/services/products.py", "if row.foreseen:", "if False:", PRODUCTS),
    Break("server/services/products.py", "    _cancel_unwanted(db, given_up)\n", "", PRODUCTS),
    Break("server/services/products.py", '        elif one.status == "waiting" and not db.scalar(',
          '        elif False and not db.scalar(', PRODUCTS),
    Break("server/services/products.py", "if db.execute(text(known), {\"lock\": lock}).first() is not None:",
          "if False:",
          PRODUCTS),
    Break("server/jobs/compute.py", "if not _insist(lambda db: finish(", "if not _with_db(lambda db: finish(",
          "server/test_workers.py"),
    Break("server/services/products.py", "row.status == \"running\" and row.worker == worker", "False", PRODUCTS),
    Break("server/services/products.py", "if row.cancel_requested and not row.foreseen and db.scalar(",
          "if not db.scalar(", PRODUCTS),
    Break("server/services/products.py", "row.cancel_requested = False\n    _wait_again(db, row)",
          "row.cancel_requested = False", PRODUCTS),
    Break("server/services/storage.py", "    tell_of_deletion(db, ProductRow.session_id == session_id)\n", "",
          "server/test_proof.py"),
    Break("server/monitor/measuring.py", "if not _is_open:", "if False:", MONITOR),
    Break("server/monitor/page.py", "except BrokenExecutor:", "except ImportError:", MONITOR),
    Break("server/services/storage.py", "if n_here[inode] == one.st_nlink", "if True", "server/test_staging.py"),
    Break("server/services/sessions.py", "held is None or held.revision != row.revision", "held is None", SESSIONS),
    Break("server/services/sessions.py", "return held.model_copy(update=_history(db, row))", "return held", STORAGE),
    Break("server/monitor/queue.py", "self.base_ms * LEARNT", "self.base_ms", "server/test_files.py"),
    Break("server/monitor/page.py", "await asyncio.to_thread(submit, measured_levels, sides",
          "submit(measured_levels, sides", MONITOR),
    Break("server/jobs/compute.py", "for need in needs_of(analysis, params):", "for need in ():", PRODUCTS),
    Break("server/jobs/compute.py", "order_by(ProductRow.used_at)", "order_by(ProductRow.id)", PRODUCTS),
    Break("core/analyses/base.py", "{params.model_dump_json()}", "", "core/test_analyses.py"),
    Break("core/analyses/suspects.py", "keepers=keepers", "keepers=()", "server/test_hunt.py"),
    Break("server/access.py", "or self._allowed(scope)", "or True", SESSIONS),
    Break("core/engine/listening.py", "return 0.0 if for_itself else", "return", "core/test_listening.py"),
    Break("core/finder/place_curve.py", "_by_note(lines, over_db - of_root[lines.from_root], weights, n_bands)",
          "_by_note(lines, lines.level_db, weights, n_bands)", PLACES),
    Break("core/finder/place_curve.py", "weight / (weight + WHOLE_PASS_FRAMES)", "weight", PLACES),
    Break("core/finder/learning.py", "max(LEAST_DB, OVER_WOBBLE * wobble)", "0.0", LEARNING),
    Break("core/finder/learning.py", "p * doubt - HARSH_FROM", "p * 0.0 - HARSH_FROM", LEARNING),
    Break("core/finder/survey.py", "min(draft.excess_db * draft.sure * amount / 100.0, deepest_db)",
          "draft.excess_db * draft.sure * amount / 100.0", LEARNING),
    Break("core/processors/plane.py", "(KNOWN_DB if figures.places or figures.loud_places else 0.0)", "0.0", LEARNING),
    Break("core/kernels/plane_frames.py", "learned[k] * stands", "0.0", LEARNING),
    Break("core/kernels/plane_frames.py", "spare * usual[k]", "usual[k]", PLACES),
    Break("core/finder/pitch_line.py", "(rooted > ROOTED)", "True", PITCH),
    Break("core/finder/pitch_line.py", "b - 0.25 * (a - c) * off", "b", PITCH),
    Break("core/finder/measures.py", "(notes.explained > ONE_NOTE)", "notes.clear", "core/test_survey.py"),
    Break("core/rechannel.py", "width = 1 if how == \"mono\" else 2", "width = 2", "core/test_channels.py"),
    Break("core/rechannel.py", "if (found := _INDEX.search(one[0])) else at) in channels",
          "if False else 0) in channels", "core/test_channels.py"),
    Break("core/rechannel.py", "[_of_channels(one, part) for one in carries]", "carries", "core/test_channels.py"),
    Break("core/pairs.py", "and not taken & set(places.values())", "", "core/test_channels.py"),
    Break("core/spectra/smoothing.py", "np.exp(-pg) * AXIS_HZ[None, :]", "np.exp(-pg)", "core/test_levels.py"),
    Break("core/spectra/smoothing.py", "half + 0.5 - apart", "half + 1.5 - apart", "core/test_levels.py"),
    Break("core/settings_list.py", "state.acting_ledger", "state.ledger", "core/test_files.py"),
    Break("core/moves/figures.py", "if _holds(figure.when, move)]", "]", "core/test_files.py"),
    Break("core/audiofile.py", 'return "RF64" if n_bytes', 'return "WAV" if n_bytes', "core/test_files.py"),
    Break("core/ensemble/listening.py", "step * track.heard.hop_s", "track.heard.hop_s", "core/test_ensemble.py"),
    Break("core/metadata/containers.py", "if length < 255:", "if True:", METADATA),
    Break("core/metadata/containers.py", "data[: _comment_length(data)]", "data[:40]", METADATA),
    Break("server/services/imports.py", "if rate_hz == file.rate_hz:", "if True:", "server/test_staging.py"),
    Break("server/services/staging.py", "if left.rate_hz == right.rate_hz and", "if",
          "server/test_staging.py"),
    Break("server/services/staging.py", "or left.time_reference == right.time_reference", "or True",
          "server/test_staging.py"),
    Break("core/metadata/comments.py", "max(int(value) + start_frame, 0)", "int(value)", METADATA),
    Break("server/services/products.py", "WAITED_QUEUE if priority >= Priority.WAITED_FOR else QUEUE", "QUEUE",
          PRODUCTS),
    Break("server/services/level_match.py", "priority=Priority.HEARD", "priority=Priority.WAITED_FOR", PRODUCTS),
    Break("server/services/waiting.py", "row is None or not is_wanted()", "row is None", PRODUCTS),
    Break("server/services/same_content.py", "f\"{sha256} at {rate_hz}\"", "audio_id", PRODUCTS),
    Break("server/run.py", '            claim.bind(f"\\0mivlo {port}")\n', "", "server/test_healing.py"),
    Break("core/processors/chain.py", "        self._own_figures()\n", "", REVISING),
    Break("core/processors/chain.py", "not self._left.any()", "True", REVISING),
    Break("core/model/intents/ledgers.py", "if now.move not in (self.seen, self.move):", "if False:", SESSIONS),
)  # fmt: skip


def was_noticed(one: Break, copy: Path) -> bool:
    """Make a break in a copy of the source, run its tests on that, and mend it again."""
    path = copy / "src/mivlo" / one.file
    text = path.read_text(encoding="utf-8")
    if text.count(one.line) != 1:
        raise SystemExit(f"{one.file}: {one.line!r} stands there {text.count(one.line)} times, not once")
    path.write_text(text.replace(one.line, one.wrong), encoding="utf-8")
    environment = os.environ | {"PYTHONPATH": str(copy / "src")}
    command = [sys.executable, "-m", "pytest", "-q", "-x", f"tests/{one.tests}"]
    done = subprocess.run(command, cwd=copy, env=environment, capture_output=True, check=False)
    path.write_text(text, encoding="utf-8")
    return done.returncode == 1


def main() -> int:
    """Try all breaks, or those chosen."""
    words = " ".join(sys.argv[1:])
    missed = []
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        copy.chmod(0o755)
        for part in ("src", "tests", "demo", "docs"):
            shutil.copytree(ROOT / part, copy / part)
        shutil.copy(ROOT / "pyproject.toml", copy)
        (copy / "web").mkdir()
        (copy / "web/dist").symlink_to(ROOT / "web/dist")
        for one in BREAKS:
            if words in f"{one.file} {one.line}":
                noticed = was_noticed(one, copy)
                print(f"{'noticed' if noticed else 'NOT NOTICED'}: {one.file}: {one.line.strip()}", flush=True)
                missed += [] if noticed else [one]
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
