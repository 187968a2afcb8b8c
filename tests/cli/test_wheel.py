"""The wheel alone, in an environment that holds nothing else of Box Kite."""

from __future__ import annotations

import os
import subprocess
import sys
import sysconfig
import venv
from pathlib import Path
from zipfile import ZipFile

import pytest

ROOT = Path(__file__).resolve().parents[2]
pytestmark = pytest.mark.skipif("BOXKITE_WHEEL" not in os.environ, reason="make wheel-test runs it")


@pytest.fixture(scope="module", params=["with a compiler", "without"])
def installed(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An environment with the wheel; what it depends on is this one's, so that nothing is fetched."""
    folder, env = tmp_path_factory.mktemp("wheel"), dict(os.environ)
    if request.param == "without":
        env |= {"CC": "/bin/false", "LDSHARED": "/bin/false"}
    build = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(folder), str(ROOT)]
    subprocess.run(build, check=True, capture_output=True, env=env)
    (wheel,) = folder.glob("*.whl")
    assert wheel.name.startswith("boxkite_shots-")
    names = ZipFile(wheel).namelist()
    assert not [name for name in names if name.endswith((".c", ".pyc"))]
    assert any("picture/samples" in name and not name.endswith(".pyi") for name in names) == (
        request.param == "with a compiler"
    )
    kept = subprocess.run(
        ["git", "ls-files", "src/boxkite"], cwd=ROOT, capture_output=True, text=True, check=True
    )
    wanted = {name.removeprefix("src/") for name in kept.stdout.split() if not name.endswith(".c")}
    assert not wanted - set(names)
    venv.create(folder / "env", with_pip=False)
    (packages,) = (folder / "env").glob("lib/python*/site-packages")
    (packages / "others.pth").write_text(sysconfig.get_paths()["purelib"] + "\n")
    command = [
        sys.executable,
        "-m",
        "pip",
        "--python",
        str(folder / "env/bin/python"),
        "install",
        "--no-deps",
        "-q",
    ]
    subprocess.run([*command, "--no-index", str(wheel)], check=True, capture_output=True)
    return folder / "env/bin"


def test_the_wheel_runs_the_first_steps_of_the_demo(installed: Path, tmp_path: Path) -> None:
    env = {**os.environ, "BOXKITE_STATE": str(tmp_path / "state")}

    def run(*words: str) -> str:
        done = subprocess.run(
            [installed / "boxkite", *words], cwd=tmp_path, env=env, capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return done.stdout

    where = [installed / "python", "-c", "import boxkite; print(boxkite.__file__)"]
    found = subprocess.run(where, cwd=tmp_path, capture_output=True, text=True, check=True).stdout
    assert Path(found.strip()).is_relative_to(installed.parent)
    run("demo", "demo", "--draw-only")
    assert "mill.mov" in run("inspect", "demo")
    assert "total: " in run("plan", "demo/mill.mov", "--marks", "demo/mill.edl", "--to", "web:out")
    assert "verified" in run(
        "run",
        "demo/mill.mov",
        "--marks",
        "demo/mill.edl",
        "--only",
        "number:1",
        "--to",
        "web:out",
        "--look",
        "demo/warm.cube",
    )
    assert "all verified" in run("status")
    assert "and decoded" in run("verify", "last", "--deep")
