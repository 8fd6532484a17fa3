"""What axe finds on every screen, pop-over and dialog, by day and by night."""

from __future__ import annotations

import re

from playwright.sync_api import Page

from tests.conftest import PROJECT
from tests.e2e.conftest import open_take, settled, to_shelf

AXE = PROJECT / "web/node_modules/axe-core/axe.min.js"
LAMP = "Signal lamp, take 01"

# The guards are Radix's own: they hand the focus on, and nobody is ever on one. A separator that
# can be moved has the focus (ARIA 1.2, "separator"), which a rule that axe tries out does not know.
RULES = """async () => (await axe.run(
  { exclude: [['[data-radix-focus-guard]']] },
  { resultTypes: ['violations'],
    rules: { 'color-contrast': { enabled: false } },
    runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice',
      'experimental'] },
)).violations.map((v) => v.id === 'focus-order-semantics'
    ? { ...v, nodes: v.nodes.filter((n) => !n.html.includes('role="separator"')) } : v)
  .filter((v) => v.nodes.length)
  .map((v) => v.id + ': ' + v.nodes.map((n) => n.html.slice(0, 90)).join(' | '))"""

# Contrast in both themes, of what has come into the page or looks other than it did.
CONTRAST = """async () => {
  const root = document.documentElement
  const theme = root.dataset.theme
  const seen = (window.seenByAxe ??= { chart: new WeakMap(), night: new WeakMap() })
  const looks = (element) => {
    const { color, fontSize, fontWeight } = getComputedStyle(element)
    const look = [color, fontSize, fontWeight]
    for (let at = element; at; at = at.parentElement) {
      const { backgroundColor, opacity } = getComputedStyle(at)
      look.push(backgroundColor, opacity)
    }
    return look.join()
  }
  const speaks = (element) => element.matches('input, select, textarea')
    || [...element.childNodes].some((n) => n.nodeType === Node.TEXT_NODE && n.data.trim())
  const told = []
  let looked = 0
  for (const each of ['chart', 'night']) {
    root.dataset.theme = each
    const fresh = [...document.body.querySelectorAll('*')].filter((element) => {
      if (!speaks(element) || !element.checkVisibility()) return false
      const look = looks(element)
      if (seen[each].get(element) === look) return false
      seen[each].set(element, look)
      return true
    })
    looked += fresh.length
    if (!fresh.length) continue
    const { violations } = await axe.run(
      { include: fresh }, { resultTypes: ['violations'], runOnly: ['color-contrast'] })
    told.push(...violations.flatMap((v) => v.nodes.map((n) => `${each}: ${n.html.slice(0, 90)}`)))
  }
  root.dataset.theme = theme
  return [looked, told]
}"""


# Colours are what they come to, not what they are on their way to.
STILL = """() => {
  const sheet = new CSSStyleSheet()
  sheet.replaceSync('* { transition: none !important; animation: none !important }')
  document.adoptedStyleSheets.push(sheet)
}"""


def test_axe_finds_nothing_on_any_screen_pop_over_or_dialog(page: Page) -> None:
    """All of its rules for WCAG 2.2 A and AA, of good practice and those that it tries out."""
    looked = 0

    def is_clean(where: str) -> None:
        nonlocal looked
        settled(page)
        if not page.evaluate("() => !!window.axe"):
            page.evaluate(AXE.read_text())
            page.evaluate(STILL)
        assert page.evaluate(RULES) == [], where
        fresh, told = page.evaluate(CONTRAST)
        assert told == [], where
        looked += fresh

    to_shelf(page)
    is_clean("shelf")
    page.get_by_label(f"Choose {LAMP}").check()
    page.get_by_role("button", name="Run a recipe on 1").click()
    is_clean("run a recipe")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Deliver 1").click()
    page.get_by_label("CSV of places", exact=True).check()
    page.get_by_label("also what has not changed").check()
    is_clean("deliver")
    page.get_by_role("button", name="Deliver 1 file").click()
    report = page.get_by_role("link", name="Report")
    report.wait_for()
    is_clean("a delivery")
    delivery = page.url
    page.goto(report.get_attribute("href") or "")
    is_clean("its report")
    page.goto(delivery)
    page.get_by_role("link", name="Shelf").click()
    for dialog in ("Bin", "People"):
        page.get_by_role("button", name=dialog).click()
        page.get_by_role("dialog").wait_for()
        is_clean(dialog)
        page.keyboard.press("Escape")
    page.get_by_role("link", name="The studio").click()
    page.get_by_role("heading", name="What failed").wait_for()
    is_clean("the studio")
    page.get_by_role("link", name="Shelf").click()
    open_take(page, LAMP)
    for step in "123456789":
        page.keyboard.press(f"Alt+{step}")
        is_clean(f"step {step}")
    page.keyboard.press("Alt+J")
    page.get_by_label("Clip to join").select_option(index=1)
    page.get_by_role("button", name=re.compile("^Seams to")).click()
    page.get_by_test_id("pairs").wait_for()
    is_clean("joining")
    page.keyboard.press("Alt+2")
    for tab in ("Contacts", "Body", "Findings"):
        page.get_by_role("tab", name=tab).click()
        is_clean(tab)
    page.keyboard.press("Alt+4")
    page.get_by_role("button", name="Smooth").first.click()
    is_clean("an operation's card")
    page.keyboard.press("Alt+6")
    page.get_by_role("button", name="Hold it here").click()
    page.get_by_role("group", name=re.compile("^Plant of")).wait_for()
    page.get_by_label("Props", exact=True).get_by_role("button", name="lamp").click()
    settled(page)
    is_clean("a plant and a prop")
    page.keyboard.press("Control+z")
    settled(page)
    page.keyboard.press("Alt+8")
    for tab in ("Layers", "Amount", "Spacing", "Time", "Pose"):
        page.get_by_role("tab", name=tab).click()
        is_clean(tab)
    page.keyboard.press("j")
    field = page.get_by_label("turn by, Y")
    field.fill("20")
    field.press("Enter")
    page.get_by_role("region", name="Unkeyed change").wait_for()
    is_clean("an unkeyed change")
    page.get_by_role("button", name="Put back").click()
    page.keyboard.press("j")
    for menu in ("Traces", "Marks", "Show", "Camera", "1×", "Which joints are listed"):
        page.get_by_role("button", name=menu, exact=True).click()
        is_clean(menu)
        page.keyboard.press("Escape")
    for opened in (page.get_by_role("button", name="History"), page.get_by_test_id("drift")):
        opened.click()
        is_clean("a list in the header")
        page.keyboard.press("Escape")
    page.get_by_label("Find a joint").fill("rightforearm")
    page.keyboard.press("Enter")
    page.locator("h1").click()
    page.keyboard.press("Control+a")
    is_clean("keys selected")
    page.get_by_test_id("sheet").click(button="right")
    is_clean("context menu")
    page.keyboard.press("Escape")
    page.keyboard.press("b")
    is_clean("brush")
    page.keyboard.press("Escape")
    page.keyboard.press("z")
    page.get_by_role("button", name="Open all").click()
    is_clean("timing sheet")
    page.keyboard.press("z")
    page.keyboard.press("Shift+Space")
    page.get_by_role("region", name="Review").wait_for()
    is_clean("review")
    page.keyboard.press("Escape")
    for key, name in (("Control+k", "Commands"), ("?", "Keyboard")):
        page.keyboard.press(key)
        page.get_by_role("dialog", name=name).wait_for()
        is_clean(name)
        page.keyboard.press("Escape")
    to_shelf(page)
    page.get_by_role("button", name=f"Go on: {LAMP}").wait_for()
    is_clean("shelf with a take that was worked on")
    assert looked > 2000  # in both themes together
