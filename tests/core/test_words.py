"""The words: the documents' commands are run, and the interface speaks plainly."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import pytest
from leancurve.cli import main
from leancurve.demo.characters import heron_file
from leancurve.demo.defects import Capture
from leancurve.formats.bvh import write_bvh
from leancurve.formats.clipjson import SCHEMA_VERSION
from leancurve.time.resample import resampled

from tests.conftest import PROJECT

DOCS = PROJECT / "docs"
COMMON = PROJECT / "tests/data/common_words.txt"
MOST_TERMS = 60
README_LINES = 50


def commands(name: str, program: str) -> list[str]:
    """The lines of a document that call a program, without what is said of them."""
    lines = (DOCS / name).read_text().splitlines()
    found = [line.split(" #")[0].strip() for line in lines if line.startswith(f"{program} ")]
    assert found
    return found


def test_every_command_of_the_command_line_runs_as_written(
    captured_walk: Capture,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    short = write_bvh(resampled(captured_walk.clip, first=400, last=640))
    (tmp_path / "take.bvh").write_bytes(short)
    (tmp_path / "Heron.bvh").write_bytes(write_bvh(heron_file()))
    (tmp_path / "takes").mkdir()
    for name in ("first", "second"):
        (tmp_path / "takes" / f"{name}.bvh").write_bytes(short)
    monkeypatch.chdir(tmp_path)
    for line in commands("command-line.md", "leancurve"):
        assert main(shlex.split(line)[1:]) == 0, (line, capsys.readouterr().err)
    assert {"clean.json", "heron.bvh", "flat.bvh", "cleaned"} <= {p.name for p in Path().iterdir()}


def test_every_verb_of_the_script_is_one_that_it_has() -> None:
    script = (PROJECT / "lean").read_text()
    named = {
        match.group(1)
        for document in [PROJECT / "README.md", *DOCS.glob("*.md")]
        for match in re.finditer(r"\./lean ([a-z][a-z-]+)", document.read_text())
    }
    assert {"demo", "test", "backup", "bench"} <= named
    assert [verb for verb in sorted(named) if not re.search(rf"\b{verb}\b.*\)", script)] == []


def test_the_readme_is_a_screen_and_leads_everywhere() -> None:
    text = (PROJECT / "README.md").read_text()
    assert len(text.splitlines()) <= README_LINES
    for document in DOCS.glob("*.md"):
        assert f"docs/{document.name}" in text
    guide = (DOCS / "guide.md").read_text()
    for picture in (DOCS / "screenshots").glob("*.png"):
        assert f"screenshots/{picture.name}" in guide


def test_clip_json_is_told_in_the_version_that_is_written() -> None:
    text = (DOCS / "clip-json.md").read_text()
    assert text.startswith(f"# Clip JSON, version {SCHEMA_VERSION}\n")
    assert f'"schema_version": {SCHEMA_VERSION},' in text


def terms() -> list[str]:
    rows = (DOCS / "glossary.md").read_text().splitlines()
    return [row.split("|")[1].strip() for row in rows if re.match(r"\| [a-z]", row)][1:]


def test_the_glossary_is_short_and_each_word_stands_once() -> None:
    found = terms()
    assert 30 <= len(found) <= MOST_TERMS
    assert len(set(found)) == len(found)


ATTRIBUTES = r"(?:aria-label|title|label|text|placeholder|lead|name|told|alt)"


def said(source: str) -> Iterator[str]:
    """What a component of the interface says, as far as it is written out: text between tags and
    in attributes that are read."""
    source = re.sub(r"/\*.*?\*/|//[^\n]*", " ", source, flags=re.S)
    between = re.findall(r">\s*([A-Z“a-z][^<>{}=;()]*?)\s*<", source)
    # Types and calls stand between such brackets too.
    yield from (text for text in between if not re.search(r"\w[.]\w|[a-z][A-Z]|Promise", text))
    yield from re.findall(rf"\b{ATTRIBUTES}=\"([^\"]+)\"", source)
    yield from re.findall(r"\b(?:title|text|button|about): '([^']+)'", source)


def test_the_interface_uses_common_words_or_words_of_the_glossary() -> None:
    """A word that is neither stands here until it is defined, or found to be plain English."""
    known = set(COMMON.read_text().split())
    known |= {word for term in terms() for word in re.findall(r"[a-z]+", term.lower())}
    unknown: dict[str, str] = {}
    files = [*(PROJECT / "web/src").rglob("*.tsx"), *(PROJECT / "web/src/commands").glob("*.ts")]
    assert len(files) > 80
    for file in files:
        for text in said(file.read_text()):
            for word in re.findall(r"[a-z]{3,}", text.lower()):
                if word not in known:
                    unknown.setdefault(word, file.name)
    assert unknown == {}
