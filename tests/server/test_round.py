"""The round over the API: rows as they are found, what was judged is kept and undone."""

import io
import time

import numpy as np
import soundfile

from .helpers import RATE, edit, new_session, step_back, upload


def test_rows_come_as_they_are_found_and_what_is_judged_is_an_edit_like_others(api):
    state = new_session(api)
    x = 0.1 * np.random.default_rng(1).standard_normal(3 * RATE)
    for name, late in (("One.wav", 0), ("Two.wav", 240)):
        data = io.BytesIO()
        soundfile.write(data, np.concatenate([np.zeros(late), x]), RATE, format="WAV", subtype="PCM_24")
        state = upload(api, state["id"], name, data.getvalue()).json()
    path = f"/api/sessions/{state['id']}/round"
    first = api.get(path).json()
    assert first["of"] > 5
    deadline = time.monotonic() + 60
    while (told := api.get(path).json())["waiting"]:
        assert time.monotonic() < deadline
        time.sleep(0.3)
    [pair] = [row for row in told["rows"] if row["kind"] == "tracks"]
    assert pair["relation"]["shift_frames"] == 240
    assert pair["status"] == "to judge"

    def status(row_id: str) -> str:
        return next(row["status"] for row in api.get(path).json()["rows"] if row["id"] == row_id)

    now = edit(api, state, {"do": "judge-row", "row_ids": [pair["id"]], "verdict": "later"}).json()
    assert status(pair["id"]) == "later"
    step_back(api, now)
    assert status(pair["id"]) == "to judge"
    refused = edit(api, now, {"do": "judge-row", "row_ids": [], "verdict": "fine"})
    assert refused.status_code == 422
    assert api.get("/api/sessions/none/round").status_code == 404
