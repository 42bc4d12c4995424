"""The API in short, a line for each operation and each model: ``python -m tests.web.interface > tests/web/interface.txt``.

The text is kept, so that a change of the interface is seen in a diff.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any, get_args

from nivelus.core.kinds import AnyKind, KindName
from nivelus.settings import Settings
from nivelus.web.app import create_app

CALLED = {get_args(KindName): "KindName", get_args(AnyKind): "AnyKind"}
"""Words to choose from that have a name."""
LIMITS = {"minimum": ">=", "maximum": "<=", "minLength": "length>=", "maxLength": "length<=", "maxItems": "items<="}


def interface() -> str:
    """Operations and models of the OpenAPI document."""
    with tempfile.TemporaryDirectory() as folder:
        document: dict[str, Any] = create_app(Settings(data=Path(folder)), described=True).api_doc
    lines = []
    for path, methods in document["paths"].items():
        for method, told in methods.items():
            query = [f"{p['name']}: {kind(p['schema'])}" for p in told.get("parameters", []) if p["in"] == "query"]
            body = [kind(next(iter(told["requestBody"]["content"].values()))["schema"])] if "requestBody" in told else []
            answers = [
                f"{status} {kind(next(iter(answer.get('content', {'': {}}).values())).get('schema', {}))}".strip()
                for status, answer in told["responses"].items()
                if status.startswith("2")
            ]
            lines.append(f"{method.upper()} {path} ({', '.join(query + body)}) -> {', '.join(answers)}")
    for name, model in sorted(document["components"]["schemas"].items()):
        needed = set(model.get("required", []))
        fields = [
            f"{field}{'' if field in needed else '?'}: {kind(schema)}" for field, schema in model.get("properties", {}).items()
        ]
        lines.append(f"{name} {{ {'; '.join(fields)} }}")
    return "\n".join(lines) + "\n"


def kind(schema: dict[str, Any]) -> str:
    """A schema in a few words."""
    if "$ref" in schema:
        return str(schema["$ref"]).rsplit("/", 1)[-1]
    if "anyOf" in schema:
        return " | ".join(kind(one) for one in schema["anyOf"])
    if "enum" in schema:
        return CALLED.get(tuple(schema["enum"])) or " | ".join(map(repr, schema["enum"]))
    limits = [f"{sign}{schema[name]}" for name, sign in LIMITS.items() if name in schema]
    what = str(schema.get("type", "any"))
    if what == "array":
        what = f"[{kind(schema.get('items', {}))}]"
    elif isinstance(schema.get("additionalProperties"), dict):
        what = f"{{{kind(schema['additionalProperties'])}}}"
    return " ".join([what, *limits])


if __name__ == "__main__":
    print(interface(), end="")
