"""The report of a delivery as one HTML file: what was done, how far feet are off, pictures, and what failed and why."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ...formats.files import Output, check_free, write_together
from ...rendering.palette import NIGHT
from ...wording.findings import counted
from .job import DONE, FAILED, SKIPPED, Item, Order

_PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ title }}</title>
<style>
:root { color-scheme: dark; }
body { margin: 0; background: {{ c.base }}; color: {{ c.text }}; font: 15px/1.5 Inter, "Noto Sans", "DejaVu Sans", sans-serif; }
main { max-width: 1180px; margin: 0 auto; padding: 32px 24px 64px; }
h1 { font-size: 26px; margin: 0 0 4px; } h2 { font-size: 18px; margin: 36px 0 12px; color: {{ c.brass }}; }
p { margin: 0 0 8px; } .quiet { color: {{ c.quiet }}; }
.counts { display: flex; gap: 16px; margin: 20px 0 0; flex-wrap: wrap; }
.counts div { background: {{ c.raised }}; border-radius: 10px; padding: 12px 20px; min-width: 120px; }
.counts b { display: block; font-size: 24px; }
article { background: {{ c.raised }}; border-radius: 12px; padding: 16px; margin: 0 0 12px; display: flex; gap: 20px; flex-wrap: wrap; }
article .words { flex: 1 1 340px; } article h3 { font-size: 16px; margin: 0 0 2px; overflow-wrap: anywhere; }
.pictures { display: flex; gap: 6px; } .pictures img { width: 150px; height: 180px; border-radius: 8px; display: block; }
table { border-collapse: collapse; margin-top: 8px; } th, td { padding: 3px 18px 3px 0; text-align: left; vertical-align: top; font-weight: normal; }
th { color: {{ c.quiet }}; } td.number { font-variant-numeric: tabular-nums; }
.failed { width: 100%; } .failed td { overflow-wrap: anywhere; padding-bottom: 8px; }
.over { color: {{ c.alarm }}; }
@media print { :root { color-scheme: light; } body, article, .counts div { background: #fff; color: #111; } h2 { color: #111; } }
</style></head><body><main>
<h1>{{ title }}</h1>
<p class="quiet">{{ when }}</p>
<div class="counts">
<div><b>{{ done|length }}</b>delivered</div><div><b>{{ failed|length }}</b>failed</div>
<div><b>{{ skipped|length }}</b>left alone</div><div><b>{{ size }}</b>written</div></div>
{% if settings %}<h2>How</h2><table>{% for name, value in settings %}<tr><th>{{ name }}</th><td>{{ value }}</td></tr>{% endfor %}</table>{% endif %}
{% for title, items in (("Failed", failed), ("Left alone", skipped)) if items %}
<h2>{{ title }}</h2><table class="failed">{% for item in items %}<tr><td>{{ item.source }}</td><td class="quiet">on {{ item.rig }}</td><td>{{ item.why }}</td></tr>
{% endfor %}</table>{% endfor %}
{% if done %}<h2>Delivered</h2>
{% for item in done %}<article><div class="words"><h3>{{ item.out }}</h3>
<p class="quiet">{{ item.source }} on {{ item.rig }}{{ ", tied by " + item.stringing if item.stringing }}</p>
<table><tr><th>Length</th><td class="number">{{ item.length }}</td></tr>
<tr><th>Size</th><td class="number">{{ item.size }}{{ item.kind }}</td></tr>
{% for name, before, after, over in item.measures %}<tr><th>{{ name }}</th><td class="number{{ ' over' if over }}">{{ after }}{% if before %} <span class="quiet">({{ before }} without planting)</span>{% endif %}{{ ' – look at it' if over }}</td></tr>{% endfor %}
</table>{% for note in item.notes %}<p class="quiet">{{ note }}</p>{% endfor %}</div>
{% if item.pictures %}<div class="pictures">{% for picture in item.pictures %}<img alt="A pose of {{ item.clip }}" src="data:image/jpeg;base64,{{ picture }}">{% endfor %}</div>{% endif %}
</article>{% endfor %}{% endif %}
</main></body></html>
"""
_LIMIT = {"slide": 0.01, "sink": 0.015, "hover": 0.02, "touching": 0.02, "hands": 0.03}
_MEASURES = (
    ("slide", "Feet slide up to"),
    ("sink", "Feet sink up to"),
    ("hover", "Feet float up to"),
    ("hands", "Hands that hold slide up to"),
    ("touching", "Arms in the body up to"),
)


def write_report(path: Path, items: Sequence[Item], order: Order, seconds: float, overwrite: bool = False) -> None:
    """Write the report of a delivery that took some seconds; InputError where that can't be done."""
    check_free(path, overwrite)
    write_together([Output(Path(path), [page(items, order, seconds).encode("utf-8", "replace")])])


def page(items: Sequence[Item], order: Order, seconds: float) -> str:
    """The report as HTML; whatever names the items hold, they are shown as text."""
    from jinja2 import Environment

    done, failed, skipped = ([_shown(i) for i in items if i.state == state] for state in (DONE, FAILED, SKIPPED))
    values = {
        "c": NIGHT,
        "title": f"Delivery of {counted(len(done), 'clip')}",
        "when": ", ".join(filter(None, (order.date, order.folder, f"{seconds:.0f} s"))),
        "size": _size(sum(i.size for i in items)),
        "settings": settings_words(order),
        "done": done,
        "failed": failed,
        "skipped": skipped,
    }
    return Environment(autoescape=True).from_string(_PAGE).render(values)


def settings_words(order: Order) -> list[tuple[str, str]]:
    """What was asked for beside the usual, as pairs of words."""
    recipe = order.recipe
    told = [("Recipe", recipe.name)] if recipe.name else []
    if recipe.endings:
        told.append(("Formats", ", ".join(e.lstrip(".").upper() for e in recipe.endings)))
    if recipe.motion_only:
        told.append(("Body", "motion only"))
    if recipe.fps:
        told.append(("Rate", f"{recipe.fps:g} frames per second"))
    if recipe.frames:
        told.append(("Frames", f"{recipe.frames[0]} to {recipe.frames[1]}"))
    told.append(("Names", recipe.names.template))
    if recipe.travel.in_place is not None:
        told.append(("In place", ", ".join(recipe.travel.in_place) or "no"))
    if recipe.travel.root is not None:
        told.append(("Root carries", ", ".join(recipe.travel.root) or "nothing"))
    if recipe.travel.bone:
        told.append(("Root bone", "added" if recipe.travel.bone == "add" else "taken out"))
    if order.stringings:
        told.append(("Stringings", ", ".join(Path(s).stem for s in order.stringings)))
    return told


def _shown(item: Item) -> dict[str, Any]:
    measures = []
    if item.measures is not None:
        for name, words in _MEASURES:
            before, after = getattr(item.measures, name)
            told = f"{before * 100:.1f} cm" if before > after + 0.0005 else ""
            measures.append((words, told, f"{after * 100:.1f} cm", after > _LIMIT[name]))
        if item.measures.lowered > 0.0005:
            measures.append(("Hips give way up to", "", f"{item.measures.lowered * 100:.1f} cm", False))
    return {
        "out": ", ".join(Path(out).name for out in item.outs),
        "source": Path(item.source).name,
        "rig": Path(item.rig).stem,
        "clip": item.clip,
        "why": item.why,
        "stringing": item.stringing,
        "length": f"{item.seconds:.2f} s, {counted(item.frames, 'frame')} at {item.rate:g} per second",
        "size": _size(item.size),
        "kind": ", as keys with curves" if item.keys else ", a key on every frame" if item.made_dense else "",
        "measures": measures,
        "notes": item.notes,
        "pictures": [base64.b64encode(p).decode() for p in item.pictures],
    }


def _size(size: int) -> str:
    return f"{size / 1e6:.1f} MB" if size >= 1e6 else f"{size / 1e3:.0f} kB"
