"""What was done, in words for the logbook."""

from __future__ import annotations

from fernfield.work.strokes import StrokeRun


def volume_words(cut_m3: float, fill_m3: float) -> str:
    volumes = [f"{name} {value:,.0f} m³" for name, value in (("cut", cut_m3), ("fill", fill_m3)) if value >= 0.5]
    return ", ".join(volumes)


def stroke_words(run: StrokeRun, cut_m3: float, fill_m3: float) -> str:
    """What a stroke did, for the logbook."""
    start = run.start
    label = start.tool.replace("_", " ").capitalize()
    what = f" {start.cover or start.mix}" if start.cover or start.mix else ""
    by = f" by {start.own['by']}" if start.own.get("by") in ("cut", "fill") else ""
    kind = f" with {start.own['kind']}" if "kind" in start.own else ""
    size = f", radius {start.radius_m:g} m"
    if run.tool is not None and run.tool.lay is not None:
        facts = run.progress()
        size = f", {facts['length_m']:.0f} m at {facts['percent']:.1f} %" if "percent" in facts else ""
    volumes = volume_words(cut_m3, fill_m3)
    return f"{label}{what}{by}{kind}{size}" + (f": {volumes}" if volumes else "")
