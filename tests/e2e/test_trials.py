"""A short share of each trial: ``./lean trials`` runs them whole."""

from __future__ import annotations

from pathlib import Path

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials import (
    access,
    files,
    forgetting,
    imports,
    load,
    requests,
    strangers,
    two,
    upgrade,
)


def column(table: Table, name: str) -> list[str]:
    at = table.columns.index(name)
    return [row[at] for row in table.rows]


def test_mutated_files_are_read_or_refused(settings: object) -> None:
    settings.INTAKE_MEMORY_BYTES = 3 * 2**30
    for name, data in files.sources().items():
        outcomes = {seed: files.tried(name, files.mutated(data, seed)) for seed in range(12)}
        assert set(outcomes.values()) <= {"read", "refused"}, outcomes


READ = {
    "a rate written 60.0", "frames written 40.0", "a name of other alphabets",
    "4,999 sibling joints",
}  # fmt: skip


def test_chosen_files_are_read_or_refused() -> None:
    small = [c for c in files.chosen() if len(c[2]) < 10**6]
    outcomes = {what: files.tried(name, data) for what, name, data in small}
    assert len(outcomes) > 12
    assert outcomes == {w: "read" if w in READ else "refused" for w in outcomes}


def test_wrong_gltf_usd_and_zips_are_refused(settings: object) -> None:
    """Within 2 GB of addresses; all of them in the core's tests, and in ``./lean trials``."""
    settings.INTAKE_MEMORY_BYTES = 2 * 2**30
    some = list(files.strange())[::9]
    assert len(some) > 10
    outcomes = {what: files.tried(name, data) for what, name, data in some}
    assert set(outcomes.values()) == {"refused"}, outcomes


def test_nobody_reaches_what_is_not_theirs(application: Application) -> None:
    assert column(access.on(application), "leaks") == ["0", "0", "0", "0"]


def test_requests_from_the_description_are_answered(
    application: Application, tmp_path: Path
) -> None:
    table = requests.on(application, tmp_path, examples=1)
    counts = dict(row[:2] for row in table.rows)
    assert counts["answers that are our failure"] == "0"
    assert counts["ended with"] == "no findings"
    assert int(counts["requests"]) > 200


def test_two_people_on_one_clip(application: Application) -> None:
    table = two.on(application, edits=6)
    assert table.rows[0][1:] == ("12", "0", "0")
    assert table.rows[1][3] == "0"


def test_people_at_once(application: Application) -> None:
    table = load.on(application, people=3, seconds=6.0, frames=240, takes=30)
    assert {row[0]: row[1] for row in table.rows}["refused or failed"] == "0"
    assert int(table.rows[0][1]) > 5


def test_nothing_is_forgotten(tmp_path: Path) -> None:
    counts = dict(row[:2] for row in forgetting.run(tmp_path, steps=90).rows)
    assert counts["lost, changed or not whole"] == "0"
    assert int(counts["write"]) > 10


def test_what_is_elsewhere_is_answered_as_what_is_nowhere(application: Application) -> None:
    counts = dict(row[:2] for row in strangers.on(application).rows)
    assert counts["answers that differ, or reach it"] == "0"
    assert int(counts["fields that name something"]) > 80
    assert counts["theirs as it was"] == "True"


def test_workspaces_files_with_lies_are_refused_or_come_in_whole(tmp_path: Path) -> None:
    table = imports.run(tmp_path, count=25)
    assert column(table, "failed") == ["0", "0", "0"]
    assert int(table.rows[0][1]) > 10


def test_two_versions_beside_and_after_one_another(tmp_path: Path) -> None:
    for what, count, goal in upgrade.run(tmp_path, rounds=2).rows:
        assert goal in ("", "all", count), what
