"""Mutated job files and command lines: whatever is wrong is told in a sentence, at its place, with what to do, at once."""

from __future__ import annotations

import json
import os
import random
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from conftest import Files
from test_matrix import SEED

COUNT = int(os.environ.get("KANAL_TEST_MUTATIONS", "400"))
#: Four fifths are job files, in so many parts that can run beside each other.
PARTS = 4
JOB = """job = "lock-register"
on_failure = "continue"
workers = 2
[connection]
old.url = "sqlite:///old.db"
new = { url = "sqlite:///new.db", lock_timeout = 2.5, max_parallel = 2 }
[defaults]
batch_rows = 1000
write = "truncate"
max_rejects = "50%"
[parameters]
season = 2025
from_day = 2025-01-31
[conversion.toll]
type = "decimal(9,2)"
decimal_mark = ","
rounding = "half_up"
null_values = ["", "free"]
[check.draught]
expect = "draught BETWEEN 0 AND 400"
[check.known]
value = "mark"
exists_in = { table = "new:vessel", column = "mark" }
[pipeline.vessels]
source = "old:vessel"
target = "new:vessel"
write = "merge"
key = "mark"
duplicates = "last"
since = { column = "changed", overlap = "2 hours" }
columns = { mark = "upper(trim(mark))", tonnage = { from = "tons", if_bad = "null" } }
[pipeline.passages]
source = { connection = "old", query = "SELECT * FROM passage WHERE season = 2025" }
target = "new:passage"
after = ["vessels"]
where = "season = :season AND CAST(passed AS date) >= :from_day"
checks = ["draught", "known"]
order_by = "no"
lookup.vessel = { table = "new:vessel", on = { mark = "upper(mark)" }, missing = "null" }
[pipeline.passages.columns]
no = "no"
mark = "vessel.mark"
draught = { from = "draught", type = "integer" }
toll = { from = "toll", conversion = "toll", default = 0 }
passed = { from = "passed", format = "%d.%m.%Y" }
[command.tidy]
connection = "new"
sql = "DELETE FROM passage WHERE toll < 0"
after = ["passages"]
timeout = 10
[run_log]
url = "sqlite:///log.db"
keep_runs = 5
[schedule]
cron = "15 2 * * *"
time_zone = "Europe/Amsterdam"
window = "1 day"
first_window = 2026-01-01
resume = { times = 2, after = "10 minutes" }
finish_by = 06:00:00
[notify.keeper]
to = { env = "HOME" }
when = ["failed", "late"]
rejects_over = "1%"
[environment.test]
parameters.season = 2024
connection.new.url = "sqlite:///new.db"
schedule = { every = "1 hour" }
"""
SPICE = ["\x00", "\x1b[2J", "\u202e", "'", '"', "\\", "{", "}", "[", "]", "=", "#", "%", "$", "${NO}", "::", ";", "--", "/*", "(", ")" * 50, "9" * 30, "-1", "1e400", "nan", "true", "[]", "{}", '""', "''' '''", "\u00e9", "\U0001f600",
         "x" * 3000, "\n", "\t", ".", ",", ":", "@", "NULL", "CASE", "CAST(1 AS", "regexp_like(mark, '(')", "2025-02-30", "old:", ":new", "postgresql://u:planted@h/d", "../..", "*", "?"]  # fmt: skip
WORDS = sorted(
    {
        *re.findall(r"[A-Za-z_]+", JOB),
        "split",
        "limit",
        "commit",
        "batch",
        "matched",
        "newer_by",
        "reject",
        "list_reasons",
        "encoding",
        "time_zone",
        "ambiguous",
        "functions",
        "include",
        "retries",
    }
)


def mutated(chance: random.Random) -> str:
    """The job with one to three changes."""
    text = JOB
    for _ in range(chance.choice([1, 1, 2, 3])):
        lines = text.splitlines()
        place = chance.randrange(len(lines))
        way = chance.randrange(8)
        if way == 0:
            del lines[place]
        elif way == 1:
            lines.insert(place, lines[chance.randrange(len(lines))])
        elif way == 2:
            lines[place] = lines[place][: chance.randrange(len(lines[place]) + 1)]
        elif way == 3:
            at = chance.randrange(len(lines[place]) + 1)
            lines[place] = lines[place][:at] + chance.choice(SPICE) + lines[place][at:]
        elif way == 4 and "=" in lines[place]:
            lines[place] = (
                lines[place].partition("=")[0]
                + "= "
                + chance.choice(
                    [
                        '""',
                        "0",
                        "-1",
                        "true",
                        "[]",
                        "{}",
                        "1.5",
                        "2025-01-31",
                        '"x"',
                        '["x"]',
                        "9" * 20,
                        "{ x = 1 }",
                        '"' + chance.choice(SPICE).replace('"', "").replace("\\", "") + '"',
                    ]
                )
            )
        elif way == 5:
            words = re.findall(r"[A-Za-z_]+", lines[place])
            if words:
                lines[place] = lines[place].replace(chance.choice(words), chance.choice(WORDS), 1)
        elif way == 6:
            other = chance.randrange(len(lines))
            lines[place], lines[other] = lines[other], lines[place]
        else:
            lines[place] = lines[place].replace(
                chance.choice("\"'=[]{},.: ()"), chance.choice(["", "  ", '"', "'", "("]), 1
            )
        text = "\n".join(lines) + "\n"
    return text


SERVER = """
import json, os, sys
import kanal, kanal.cli.entry, kanal.cli.check, kanal.explore, kanal.runner
from kanal.cli import main
kanal.Job.read("job.toml").check()  # which imports what a command would else import each time
for line in sys.stdin:
    sys.stdout.flush()
    child = os.fork()
    if not child:
        os.dup2(os.open("out", os.O_WRONLY | os.O_CREAT | os.O_TRUNC), 1)
        os.dup2(os.open("err", os.O_WRONLY | os.O_CREAT | os.O_TRUNC), 2)
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        sys.argv = ["kanal", *json.loads(line)]
        main()
        os._exit(99)
    _, status, used = os.wait4(child, 0)
    print(json.dumps([os.waitstatus_to_exitcode(status), used.ru_utime + used.ru_stime]), flush=True)
"""


class Done(NamedTuple):
    """How a command ended, and the seconds of processor it took."""

    status: int
    out: str
    err: str
    seconds: float


class Commands:
    """Commands, each a process of its own that is forked off one which has read the program."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.server = subprocess.Popen(
            [sys.executable, "-c", SERVER], cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def __call__(self, *arguments: str) -> Done:
        assert self.server.stdin and self.server.stdout
        self.server.stdin.write(json.dumps(arguments) + "\n")
        self.server.stdin.flush()
        status, seconds = json.loads(self.server.stdout.readline())
        out, err = ((self.folder / name).read_text("utf-8", "replace") for name in ("out", "err"))
        return Done(status, out, err, seconds)


@pytest.fixture
def commands(files: Files) -> Iterator[Commands]:
    """A way to run commands beside the two files that the job names."""
    files.database(
        "old.db",
        "CREATE TABLE vessel (mark text, tons text, changed timestamp); CREATE TABLE passage (no integer, mark text, season integer, draught integer, toll text, passed text)",
    )
    files.database(
        "new.db",
        "CREATE TABLE vessel (mark text PRIMARY KEY, tonnage integer); CREATE TABLE passage (no integer, mark text, draught integer, toll decimal(9,2), passed date)",
    )
    (files.folder / "job.toml").write_text(JOB)
    started = Commands(files.folder)
    yield started
    started.server.stdin and started.server.stdin.close()
    started.server.wait()


def complaint(done: Done) -> str:
    """What is wrong with how a command ended; empty where nothing is."""
    status, out, err, seconds = done
    text = out + err
    if status not in (0, 1, 2, 130):
        return f"status {status}"
    if "should not happen" in text or "Traceback" in text:
        return "an exception that is not Kanal's own"
    if seconds > 10:  # of a usual 0.1, on however busy a machine
        return f"{seconds:.1f} s"
    if "planted" in text:
        return "a password"
    if re.search("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202e]", text):
        return "a control character"
    return ""


@pytest.mark.parametrize("part", range(PARTS))
def test_mutated_job_files(files: Files, commands: Commands, part: int) -> None:
    print(f"seed {SEED}: set KANAL_TEST_SEED to repeat it")
    path = files.folder / "job.toml"
    path.write_text(JOB)
    first = commands("check", "job.toml")
    assert first.status == 0, first.out + first.err
    chance = random.Random(f"{SEED} {part}")
    wrong, refused = [], 0
    count = COUNT // 5
    for number in range(count):
        text = mutated(chance)
        path.write_text(text, encoding="utf-8", errors="surrogateescape")
        done = commands("check", "job.toml", "--json")
        said = complaint(done)
        if not said and done.status == 2:
            refused += 1
            document = json.loads(done.out)
            for problem in document.get("problems") or [document["error"]]:
                if not problem["remedy"] or not (problem.get("place") or problem["file"] or problem["line"]):
                    said = f"no place or no remedy: {problem}"
                if len(problem["what"]) > 1500:
                    said = "a message of thousands of characters"
        if said:
            wrong.append(f"{number}: {said}\n{text if len(wrong) < 2 else ''}{done.out[:600]}{done.err[:600]}")
    print(f"{count} job files, {refused} refused, {len(wrong)} wrong")
    assert not wrong, f"{len(wrong)} of {count}:\n" + "\n".join(wrong[:12])
    assert refused > count / 4


COMMANDS = [["check", "job.toml"], ["order", "job.toml"], ["runs"], ["rejects", "1"], ["watermarks", "job.toml"], ["tables", "sqlite:///old.db"], ["sample", "sqlite:///old.db", "vessel"], ["ping", "job.toml"], ["compare", "job.toml"],
            ["draft", "sqlite:///old.db", "sqlite:///new.db"], ["create", "job.toml", "--show"], ["run", "job.toml", "--dry-run"], ["resume"], ["replay"],
            ["next", "job.toml"], ["lineage", "job.toml"], ["bundle", "job.toml", "--into", "job.kanal.zip"], ["runs", "--windows", "--job", "job.toml"], ["report"], ["notify", "job.toml"], ["check", "job.kanal.zip"]]  # fmt: skip
ARGUMENTS = [*SPICE, "--env", "--env=test", "--env=all", "--by", "--picture", "--openlineage", "--json", "--job", "--like", "--sample", "-n", "--rows", "--only", "--set", "--set=x", "--set=season=1", "--since", "--until", "--all", "--run-log", "--export", "--help", "--version", "job.toml", "old.db", ".", "",
             "sqlite:///nope/x.db", "sqlite://", "mariadb://127.0.0.1:1/x", "postgresql://127.0.0.1:99999999/x", "0", "99", "-5", "vessels"]  # fmt: skip


def test_mutated_command_lines(commands: Commands) -> None:
    chance = random.Random(SEED)
    wrong = []
    for _ in range(COUNT // 5):
        command = list(chance.choice(COMMANDS))
        for _ in range(chance.choice([1, 1, 2])):
            place = chance.randrange(1, len(command) + 1)
            if chance.random() < 0.5 and place < len(command):
                command[place] = chance.choice(ARGUMENTS)
            else:
                command.insert(place, chance.choice(ARGUMENTS))
        command = [part.replace("\x00", "") for part in command]  # which no command line can have
        done = commands(*command)
        said = complaint(done)
        if said:
            wrong.append(f"{command}: {said}: {done.out[:300]}{done.err[:300]}")
    print(f"{COUNT // 5} command lines, {len(wrong)} wrong")
    assert not wrong, f"{len(wrong)} of {COUNT // 5}:\n" + "\n".join(wrong[:15])
