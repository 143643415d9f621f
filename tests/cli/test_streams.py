"""The command line in a process of its own: closed, full and narrow streams, signals, files whole or not at all."""

import os
import signal
import subprocess
import sys
import time

import pytest

import amber_ruler as ar

PROGRAM = [sys.executable, "-c", "from amber_ruler.cli import main; main()"]
MEANS = ["measure", "means", "--n", "90,90", "--mean", "21,14", "--sd", "20,20"]
SHELL = f"'{sys.executable}' -c 'from amber_ruler.cli import main; main()' "


def ran(shell, folder, **environment):
    """Run in a shell: exit status, output, errors."""
    call = ["/bin/bash", "-o", "pipefail", "-c", shell]
    done = subprocess.run(call, cwd=folder, env=os.environ | environment, capture_output=True, check=False)
    return done.returncode, done.stdout, done.stderr.decode()


@pytest.mark.parametrize(
    ("after", "status", "says"),
    [
        ("> /dev/full", 2, "Can't write the output: No space left"),
        ("--json > /dev/full", 2, "Can't write the output: No space left"),
        (">&-", 2, "output is closed"),
        ("| head -1", 0, ""),
        ("--figure nowhere/x.png", 2, "Can't write nowhere/x.png"),
    ],
)
def test_output_that_can_not_be_written_is_said(tmp_path, after, status, says):
    """No traceback, whatever became of the output; a reader who has seen enough is no error."""
    found, _, errors = ran(SHELL + " ".join(MEANS) + f" {after}", tmp_path)
    assert found == status
    assert says in errors
    assert "Traceback" not in errors
    assert not list(tmp_path.iterdir())


def test_help_and_answers_on_narrow_streams(tmp_path):
    """Signs that a stream can't show are replaced; an unknown figure backend, an unreadable name: no crash."""
    plain = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
    for asked, environment in (("plan two-means --help", plain), (" ".join(MEANS), {"PYTHONIOENCODING": "ascii"})):
        status, output, errors = ran(SHELL + asked, tmp_path, **environment)
        assert (status, errors) == (0, "")
        assert output.isascii()
    status, _, errors = ran(SHELL + " ".join(MEANS) + " --figure f.png", tmp_path, MPLBACKEND="nonsense")
    assert (status, errors) == (0, "")
    assert (tmp_path / "f.png").stat().st_size > 10_000
    status, _, errors = ran(SHELL + "measure mean $'\\xff.csv' --value fare", tmp_path)
    assert status == 2
    assert "rename the file" in errors
    status, _, errors = ran(SHELL + " ".join(MEANS) + " --labels $'\\xff',b --figure f.png", tmp_path)
    assert status == 0
    assert "Traceback" not in errors


def test_an_interrupt_is_quiet_and_leaves_nothing_half_written(tmp_path):
    """Ctrl-C in the middle of a query: status 130, no words, no file."""
    rows = "".join(f"{'abc'[k % 3]},{k % 997},{k}\n" for k in range(400_000))
    (tmp_path / "big.csv").write_text("form,fare,day\n" + rows, encoding="utf-8")
    asked = ["digest", "big.csv", "--by", "form", "--metrics", "fare", "--day", "fare", "--out", "day.json"]
    running = subprocess.Popen([*PROGRAM, *asked], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    time.sleep(1.2)
    running.send_signal(signal.SIGINT)
    output, errors = running.communicate(timeout=60)
    assert running.returncode in (0, 130)  # a fast machine may have finished
    if running.returncode:
        assert (output, errors) == (b"", b"")
        assert [path.name for path in tmp_path.iterdir()] == ["big.csv"]


@pytest.mark.parametrize("written", ["70%", "0.7", " 70 %"])
def test_percentages_are_shares_everywhere(written, capsys, monkeypatch):
    """70% is 0.7, as an option's number and in a list."""
    from amber_ruler.cli import main

    share = written.strip()
    for asked in (
        ["plan", "two-proportions", "--baseline", share, "--lift", "5%", "--json"],
        ["plan", "two-proportions", "--effect", "0.03", "--grid", f"baseline={share},0.5"],
    ):
        monkeypatch.setattr(sys, "argv", ["amber-ruler", *asked])
        with pytest.raises(SystemExit) as end:
            main()
        assert end.value.code == 0
    assert "70" in capsys.readouterr().out


def test_a_width_that_no_share_has_is_refused(capsys, monkeypatch):
    """`--half-width 3` means three points, and is told how to say so."""
    from amber_ruler.cli import main

    monkeypatch.setattr(sys, "argv", ["amber-ruler", "plan", "one-proportion", "--half-width", "3"])
    with pytest.raises(SystemExit) as end:
        main()
    assert end.value.code == 2
    assert "3 percentage points are 0.03" in capsys.readouterr().err
    assert ar.plan.OneProportion().sample_size_for_width(half_width=0.03).n == 1068


def test_what_is_done_is_told_on_the_error_stream_if_asked_and_quiet_says_answers_only(tmp_path):
    """The same answer either way; the library itself logs nowhere."""
    (tmp_path / "rows.csv").write_text("form,fare\n" + "short,12.5\ncurrent,11\nshort,9\ncurrent,14\n" * 9)
    ask = "measure means rows.csv --value fare --by form --control current"
    status, answer, errors = ran(SHELL + ask, tmp_path)
    assert (status, errors) == (0, "")
    assert ran(SHELL + "--quiet " + ask, tmp_path) == (0, answer, "")
    status, verbose, errors = ran(SHELL + "--verbose " + ask, tmp_path)
    assert (status, verbose) == (0, answer)
    assert "opening rows.csv" in errors
    assert all(" ms  " in line for line in errors.splitlines())
    reduced = "digest rows.csv --by form --metrics fare --out kept.json"
    assert b"Written to kept.json" in ran(SHELL + reduced, tmp_path)[1]
    assert ran(SHELL + "-q " + reduced, tmp_path) == (0, b"", "")
    assert "opposite things" in ran(SHELL + "-q -v " + ask, tmp_path)[2]
    alone = "import amber_ruler as ar; ar.table('rows.csv').moments('fare', by='form')"
    assert ran(f"'{sys.executable}' -c \"{alone}\"", tmp_path) == (0, b"", "")
