"""Writes docs/openapi.json (the API), docs/monitor.json and docs/news.json (messages of the two sockets), and
docs/treatment.schema.json, docs/report.schema.json and docs/bundle.schema.json.

.venv/bin/python tools/export_schemas.py [--check]
"""

import json
import sys
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from mivlo import __version__
from mivlo.core.bundle import Manifest
from mivlo.core.proof.report import Report
from mivlo.core.treatment import Treatment
from mivlo.server.api import news
from mivlo.server.app import create_app
from mivlo.server.monitor import messages as monitor

DOCS = Path(__file__).parent.parent / "docs"


def messages_of(title: str, both: dict[str, Any]) -> dict[str, Any]:
    """Return the messages of a socket, as schemas of a document without paths."""
    schemas: dict[str, Any] = {}
    for name, messages in both.items():
        schema = TypeAdapter(messages).json_schema(ref_template="#/components/schemas/{model}")
        schemas |= schema.pop("$defs")
        schemas[name] = schema
    info = {"title": title, "version": __version__}
    return {"openapi": "3.1.0", "info": info, "paths": {}, "components": {"schemas": dict(sorted(schemas.items()))}}


def report_schema() -> dict[str, Any]:
    """Return the report's JSON Schema (2020-12)."""
    schema = Report.model_json_schema(mode="serialization")
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


def bundle_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a bundle's session.json."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Manifest.model_json_schema()}


def treatment_schema() -> dict[str, Any]:
    """Return the treatment file's JSON Schema (2020-12)."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Treatment.model_json_schema()}


def main() -> int:
    """Write all documents, or tell (--check) whether they are as they would be written."""
    stale = []
    documents = {
        "openapi.json": create_app(web=None).openapi(),
        "monitor.json": messages_of(
            "Mivlo monitor", {"FromPage": monitor.FromPage, "FromMonitor": monitor.FromMonitor}
        ),
        "news.json": messages_of("Mivlo news", {"FromPage": news.FromPage, "ToPage": news.ToPage}),
        "treatment.schema.json": treatment_schema(),
        "report.schema.json": report_schema(),
        "bundle.schema.json": bundle_schema(),
    }
    for name, document in documents.items():
        text = json.dumps(document, indent=1, ensure_ascii=False) + "\n"
        path = DOCS / name
        if "--check" in sys.argv:
            if not path.exists() or path.read_text(encoding="utf-8") != text:
                stale.append(name)
        else:
            path.write_text(text, encoding="utf-8")
    if stale:
        print(f"out of date, run tools/export_schemas.py: {', '.join(stale)}", file=sys.stderr)
    return 1 if stale else 0


if __name__ == "__main__":
    sys.exit(main())
