"""Pictures a second while something is dragged, and what each costs the page's main thread."""

from __future__ import annotations

from playwright.sync_api import Page

from tests.bench.tables import Table

SECONDS = 3
PARTS = {"script": "ScriptDuration", "style": "RecalcStyleDuration", "layout": "LayoutDuration"}


def dragged(page: Page, table: Table, what: str, target: str, pointer: str) -> None:
    """Drag about for a while and add a row. ``pointer`` is a script that defines ``element`` and,
    in pixels of its box, ``start`` and ``at(n)``, where the pointer is in the n-th picture; it may
    define ``button`` and ``alt``."""
    session = page.context.new_cdp_session(page)
    session.send("Performance.enable")

    def spent() -> dict[str, float]:
        found = session.send("Performance.getMetrics")["metrics"]
        return {m["name"]: m["value"] for m in found}

    before = spent()
    frames, seconds = page.evaluate(
        f"""async () => {{
          let [button, alt] = [0, false]
          {pointer}
          const box = element.getBoundingClientRect()
          element.setPointerCapture = element.releasePointerCapture = () => {{}}
          element.hasPointerCapture = () => true
          const tell = (type, [x, y]) => element.dispatchEvent(new PointerEvent(type, {{
            bubbles: true, clientX: box.x + x, clientY: box.y + y, pointerId: 1, button,
            buttons: 1, altKey: alt }}))
          tell('pointerdown', start)
          let frames = 0
          const began = performance.now()
          while (performance.now() - began < {1000 * SECONDS}) {{
            tell('pointermove', at(frames))
            await new Promise(requestAnimationFrame)
            frames++
          }}
          const seconds = (performance.now() - began) / 1000
          tell('pointerup', start)
          return [frames, seconds]
        }}"""
    )
    after = spent()
    session.detach()
    each = {
        name: 1000 * (after[name] - before[name]) / frames
        for name in ("TaskDuration", *PARTS.values())
    }
    rest = each["TaskDuration"] - sum(each[name] for name in PARTS.values())
    parts = ", ".join(f"{part} {each[name]:.1f}" for part, name in PARTS.items())
    costs = f"{each['TaskDuration']:.1f} ms each: {parts}, painting and the rest {rest:.1f}"
    table.add(what, f"{frames / seconds:.0f} pictures / s; {costs}", target)
