"""Writes docs/steps.md: every step with its settings, and every thread, from their declarations."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from silent_loom.core.weave import registry, threads

OUT = Path(__file__).parent.parent / "docs" / "steps.md"


def _nested(annotation: Any) -> type[BaseModel] | None:
    """The model that a setting is a list of, if it is one."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((found for a in get_args(annotation) if (found := _nested(a)) is not None), None)


def _takes(info: FieldInfo, extra: dict[str, Any]) -> str:
    annotation: Any = info.annotation
    parts = [annotation, *get_args(annotation)]
    choices = [str(c) for p in parts if get_origin(p) is Literal for c in get_args(p)]
    if extra.get("kinds"):
        return "a thread of " + " or ".join(extra["kinds"]) + "".join(f", or {a}" for a in extra["also"])
    if extra.get("new"):
        return "name of a thread"
    if choices:
        return ", ".join(choices)
    low = next((m.ge for m in info.metadata if getattr(m, "ge", None) is not None), None)
    high = next((m.le for m in info.metadata if getattr(m, "le", None) is not None), None)
    if annotation is bool:
        return "true, false"
    if low is not None and high is not None:
        return f"{low:g} to {high:g}"
    return ""


def _default(value: Any) -> str:
    if value is None or value in ((), ""):
        return "none"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, tuple):
        return "list"
    return f"{value:g}" if isinstance(value, float) else str(value)


def _field(name: str, info: FieldInfo) -> str:
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    unit = f" {extra['unit']}" if extra.get("unit") else ""
    inner = _nested(info.annotation)
    if inner is not None:
        return f"{name}: list of ({'; '.join(_field(n, i) for n, i in inner.model_fields.items())})"
    takes = _takes(info, extra)
    default = "" if info.is_required() else f" ({_default(info.get_default())}{unit})"
    return f"{name}{f': {takes}' if takes else ''}{default}"


def page() -> str:
    """The whole page."""
    lines = [
        "# Steps and threads",
        "",
        "Made from their declarations by `make docs`. Lengths are millimetres, or parts of the sheet; never pixels.",
        "`silent-loom derive --set STEP.SETTING=VALUE` takes the same names; defaults stand in brackets.",
    ]
    for family, title in registry.families().items():
        lines += ["", f"## {title}", "", "| step | version | what it does | settings |", "|---|---|---|---|"]
        for step in registry.steps().values():
            if registry.family(step.name) == family:
                fields = "<br>".join(_field(n, i) for n, i in registry.fields(step.name).items()).replace("|", "\\|")
                lines.append(f"| {step.name} | {step.version} | {step.sentence} | {fields} |")
    lines += ["", "## Threads", "", "| thread | kind | stands in when missing | black and white |", "|---|---|---|---|"]
    for t in threads.THREADS.values():
        unit = f" {t.unit}" if t.unit else ""
        neutral = ", ".join(f"{v:g}" for v in t.neutral)
        lines.append(f"| {t.name} | {t.kind}{unit} | {neutral} | {t.low:g} to {t.high:g}{unit} |")
    lines += ["", "Any other name is a helper: plain numbers from 0 to 1, unless the step that makes it says more.", ""]
    return "\n".join(lines)


if __name__ == "__main__":
    OUT.write_text(page(), "utf-8")
    print(OUT)
