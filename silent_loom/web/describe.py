"""What the pages need to know of steps and weaves, made from their declarations."""

from __future__ import annotations

from functools import cache
from typing import Any, Literal, get_args, get_origin

from pydantic.fields import FieldInfo

from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.evaluate import Costs, Plan
from silent_loom.core.weave.model import MixMode, Weave

DYES = {
    "base": "madder",
    "height": "weld",
    "normal": "woad",
    "roughness": "walnut",
    "metallic": "iron",
    "occlusion": "logwood",
    "opacity": "lichen",
}
DRAWN = ("curve", "corners", "colour", "source", "grid", "regions", "strokes", "kept", "grey", "maps")
"""Shapes that have controls of their own."""
SHORT = {"base": "Base", "roughness": "Rough", "metallic": "Metal", "occlusion": "Occl"}


def _bound(info: FieldInfo, name: str) -> float | None:
    return next((getattr(m, name) for m in info.metadata if getattr(m, name, None) is not None), None)


def _field(name: str, info: FieldInfo) -> dict[str, Any]:
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    kind, choices = "number", None
    annotation: Any = info.annotation
    if get_origin(annotation) is Literal:
        kind, choices = "choice", list(get_args(annotation))
    elif annotation is bool:
        kind = "switch"
    elif annotation is str:
        kind = "text"
    optional = type(None) in get_args(annotation)
    return {
        "name": name,
        "title": info.title or name.replace("_mm", "").replace("_", " ").capitalize(),
        "says": info.description or "",
        "kind": extra.get("shape") if extra.get("shape") in DRAWN else kind,
        "shape": extra.get("shape") or "",
        "choices": choices,
        "unit": extra.get("unit") or "",
        "low": _bound(info, "ge"),
        "high": _bound(info, "le"),
        "soft": extra.get("soft"),
        "step": extra.get("step"),
        "log": bool(extra.get("log")),
        "when": extra.get("when"),
        "names": extra.get("names") or {},
        "empty": extra.get("empty") or "",
        "optional": optional,
        "default": info.get_default(),
    }


@cache
def steps() -> list[dict[str, Any]]:
    """Every step with its settings, for the controls on screen."""
    return [
        {
            "name": step.name,
            "title": step.title,
            "says": step.sentence,
            "geometric": step.geometric,
            "family": type(step).__module__.split(".")[2],
            "words": list(step.words_for_it),
            "fields": [_field(n, i) for n, i in step.Settings.model_fields.items()],
        }
        for step in registry.steps().values()
    ]


def _thread(name: str, made: bool) -> dict[str, Any]:
    spec = threads.spec(name)
    return {
        "name": name,
        "title": spec.title,
        "short": SHORT.get(name, spec.title),
        "dye": DYES.get(name, "helper"),
        "kind": str(spec.kind),
        "unit": spec.unit,
        "made": made,
    }


def weave(weave: Weave, plan: Plan, costs: Costs) -> dict[str, Any]:
    """A weave ready to draw: rows with their knots, threads with their dyes."""
    planned = {r.entry.id: r for r in plan.rows}
    names = list(dict.fromkeys([*threads.THREADS, *plan.threads]))
    used = [t for t in names if t in plan.threads or t in ("base", "height", "normal", "roughness", "metallic", "occlusion")]
    rows = []
    for entry in weave.steps:
        step = registry.step(entry.step)
        row = planned.get(entry.id)
        settings = row.settings if row is not None else registry.settings_of(entry.step, entry.settings)
        knots: dict[str, str] = {}
        for t in step.reads(settings):
            knots[t] = "reads"
        for t in step.writes(settings):
            knots[t] = "both" if t in knots else "writes"
        if step.geometric:
            knots = dict.fromkeys(row.present if row else ("base",), "carries")
        if entry.mask:
            knots[entry.mask] = "reads"
        seconds = sum(v for k, v in costs.told() if k.startswith(entry.id + ":"))
        words = (
            weave.sources[entry.settings["source"]].name
            if entry.step == "photo" and entry.settings.get("source") in weave.sources
            else ""
        )
        rows.append(
            {
                **entry.model_dump(exclude={"settings"}),
                "settings": settings.model_dump(mode="json"),
                "title": step.title,
                "words": words or step.words(settings),
                "knots": knots,
                "idle": row is None and entry.on,
                "error": str(row.error) if row and row.error else "",
                "seconds": round(seconds, 4),
            }
        )
    size = plan.geometry.size_mm
    return {
        "rows": rows,
        "threads": [_thread(t, t in plan.threads) for t in used],
        "size_mm": size,
        "sources": {d: r.name for d, r in weave.sources.items()},
        "wraps": plan.geometry.wraps,
        "native": next((list(r.after.native) for r in plan.rows if r.after.native), None),
    }


MIXES = list(get_args(MixMode))
