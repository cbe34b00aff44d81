"""What an installation brings: the wheel, the desktop's entry and file type, completions and the manual page."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

import mivrat
from mivrat import cli
from mivrat.commands.catalogue import COMMANDS
from mivrat.commands.desktop import GIVEN, _quoted
from mivrat.commands.shells import bash, options_of
from mivrat.share import SHARE
from tools.lowest import lowest
from tools.write_share import WRITTEN

ROOT = Path(__file__).resolve().parents[1]


@pytest.mark.parametrize("name", WRITTEN)
def test_what_is_shipped_is_what_the_records_say(name: str) -> None:
    assert (SHARE / name).read_text(encoding="utf-8") == WRITTEN[name](), "run python -m tools.write_share"


@pytest.mark.parametrize(
    "name", ["man/man1/mivrat.1", "zsh/site-functions/_mivrat", "fish/vendor_completions.d/mivrat.fish"]
)
def test_every_command_and_option_is_told_of(name: str) -> None:
    text = (SHARE / name).read_text(encoding="utf-8").replace("\\-", "-")
    for command in COMMANDS:
        assert re.search(rf"\b{command.name}\b", text)
        for option in options_of(command):
            told = option.name if not name.endswith("fish") else f"-l {option.name.removeprefix('--')}"
            assert not option.name.startswith("--") or told in text, (command.name, option.name)


def completed(*words: str) -> list[str]:
    """What bash offers for the last of some words."""
    script = f'{bash()}\nCOMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _mivrat; printf "%s\\n" "${{COMPREPLY[@]}}"'
    found = subprocess.run(["bash", "-c", script, "bash", "mivrat", *words], capture_output=True, text=True, check=True)
    assert found.stderr == ""
    return [one for one in found.stdout.split("\n") if one]


@pytest.mark.skipif(not shutil.which("bash"), reason="bash is not here")
def test_bash_completes_commands_options_values_and_files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "net model.onnx").touch()
    (tmp_path / "notes.txt").touch()
    monkeypatch.chdir(tmp_path)
    assert completed("eva") == ["evaluate"]
    assert set(completed("")) == {one.name for one in COMMANDS} | {"--help", "--version"}
    assert completed("evaluate", "--cla") == ["--classes"]
    assert "--model" in completed("cover", "--")
    assert completed("desktop", "in") == ["install"]
    assert completed("completion", "") == ["bash", "zsh", "fish"]
    assert completed("evaluate", "--model", "ne") == ["net model.onnx"]
    assert completed("cover", "--hide", "") == ["blur", "mean", "patch"]
    assert completed("evaluate", "--seed", "n") == []
    assert set(completed("open", "n")) == {"net model.onnx", "notes.txt"}
    assert completed("nonsense", "--") == ["--help"]


def test_the_desktop_gets_everything_and_gives_it_back(
    own_folders: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    share = Path(os.environ["XDG_DATA_HOME"])
    (share / "applications").mkdir(parents=True)
    other = share / "applications" / "other.desktop"
    other.write_text("[Desktop Entry]\n")
    assert cli._code_of(["desktop", "install"]) == 0
    assert all((share / name).is_file() for name in GIVEN)
    entry = (share / "applications" / "mivrat.desktop").read_text(encoding="utf-8")
    program = re.search(r"^Exec=(.*) open %f$", entry, re.MULTILINE)
    assert program is not None
    found = subprocess.run([*program[1].split(), "--version"], capture_output=True, text=True, check=True)
    assert found.stdout.startswith(f"mivrat {mivrat.__version__}\nPython 3.")
    assert "onnxruntime " in found.stdout
    assert cli._code_of(["desktop", "install"]) == 0  # again, over what is there
    capsys.readouterr()
    assert cli._code_of(["desktop", "remove"]) == 0
    assert not any((share / name).exists() for name in GIVEN)
    assert other.exists()
    assert cli._code_of(["desktop", "remove"]) == 0
    assert "nothing was there" in capsys.readouterr().out
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "file" / "share"))
    (tmp_path / "file").write_text("in the way")
    assert cli._code_of(["desktop", "install"]) == 2
    assert "cannot be written" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("word", "written"),
    [
        ("/usr/bin/mivrat", "/usr/bin/mivrat"),
        ("/home/a b/mivrat", '"/home/a b/mivrat"'),
        ("/a$b", '"/a\\\\$b"'),
        ('/a"b', '"/a\\\\"b"'),
        ("/100%", '"/100%%"'),
        ("/a\\b", '"/a\\\\\\\\b"'),
    ],
)
def test_the_program_is_quoted_as_entries_want_it(word: str, written: str) -> None:
    assert _quoted(word) == written


@pytest.mark.parametrize(
    ("checker", "name"),
    [
        (("appstreamcli", "validate", "--no-net"), "metainfo/org.mivrat.Mivrat.metainfo.xml"),
        (("desktop-file-validate",), "applications/mivrat.desktop"),
        (("zsh", "-n"), "zsh/site-functions/_mivrat"),
        (("fish", "-n"), "fish/vendor_completions.d/mivrat.fish"),
        (("xmllint", "--noout"), "mime/packages/mivrat.xml"),
    ],
)
def test_the_systems_own_tools_find_nothing_wrong(checker: tuple[str, ...], name: str) -> None:
    if not shutil.which(checker[0]):
        pytest.skip(f"{checker[0]} is not here")
    found = subprocess.run([*checker, str(SHARE / name)], capture_output=True, text=True, check=False)
    assert found.returncode == 0, found.stdout + found.stderr


def test_the_release_told_of_is_this_one() -> None:
    text = (SHARE / "metainfo" / "org.mivrat.Mivrat.metainfo.xml").read_text(encoding="utf-8")
    assert f'<release version="{mivrat.__version__}"' in text


def test_the_lowest_versions_are_read_from_the_project() -> None:
    assert lowest("numpy>=2.0") == "numpy==2.0"
    assert lowest("PySide6-Essentials>=6.8,!=6.12.0") == "PySide6-Essentials==6.8"
    with pytest.raises(SystemExit):
        lowest("numpy")


# --- the wheel ---


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return built(tmp_path_factory.mktemp("dist"))


def built(folder: Path) -> Path:
    command = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)]
    subprocess.run(command, cwd=ROOT, capture_output=True, check=True)
    (found,) = folder.glob("*.whl")
    return found


def test_the_wheel_is_small_whole_and_always_the_same(wheel: Path, tmp_path: Path) -> None:
    assert wheel.stat().st_size <= 15 * 2**20
    again = built(tmp_path)
    assert hashlib.sha256(again.read_bytes()).digest() == hashlib.sha256(wheel.read_bytes()).digest()
    names = zipfile.ZipFile(wheel).namelist()
    for name in ("mivrat/py.typed", "mivrat/demo/data/grain-net-1.onnx", "mivrat/core/reporting/report/report.css"):
        assert name in names
    for name in GIVEN:
        assert f"mivrat/share/{name}" in names
        assert f"mivrat-{mivrat.__version__}.data/data/share/{name}" in names
    assert not [one for one in names if "test" in Path(one).parts or "__pycache__" in one]
    told = zipfile.ZipFile(wheel).read(f"mivrat-{mivrat.__version__}.dist-info/METADATA").decode()
    assert not re.findall(r"^Requires-Dist: (?!.*extra ==).*<.*$", told, re.MULTILINE), "no upper bounds"


def test_the_wheel_runs_the_demonstration_without_a_display(wheel: Path, tmp_path: Path, own_folders: Path) -> None:
    zipfile.ZipFile(wheel).extractall(tmp_path / "site")
    environment = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "QT_QPA_PLATFORM")}
    environment["PYTHONPATH"] = str(tmp_path / "site")
    script = (
        "import sys, mivrat; print(mivrat.__file__); sys.argv = ['mivrat', 'demo']; from mivrat.cli import main; main()"
    )
    found = subprocess.run(
        [sys.executable, "-c", script], cwd=tmp_path, env=environment, capture_output=True, text=True, check=False
    )
    assert found.returncode == 0, found.stderr
    assert found.stdout.startswith(str(tmp_path / "site" / "mivrat"))
    assert "late-summer-field, grain-net-1: top-1 83.0 % (79.0 – 86.3), N = 399" in found.stdout
    assert len(list((tmp_path / "mivrat-demonstration").rglob("metrics.json"))) == 4
