#!/usr/bin/env python3
"""Whole-process figures on generated fleets: time and peak memory of each command, and the yardsticks beside them.

measure.py PROGRAM FOLDER [N ...]: PROGRAM is the release build of uspan; FOLDER is where fleets and outputs go, and the file
system that is measured. Prints a Markdown table. Every run writes to a folder of its own, and all are removed at the end: ext4 makes
new files slowly where many were deleted a few minutes ago. The yardsticks are measured in the same run, in turn with the builds:
`render.py` (Jinja2, no checks) and `floor.rs` (the same bytes, nothing computed; and once more until they are on the disk). Each figure
is the median of RUNS runs, of one run above ONCE tunnels. Where valgrind is installed it counts the instructions of `check`, which
does not depend on the machine or on what else runs; of COUNTED tunnels, because it is slow.
"""
import os
import re
import shutil
import statistics
import subprocess
import sys
import time

HERE = os.path.dirname(os.path.abspath(__file__))
RUNS = int(os.environ.get("RUNS", "3"))
ONCE = int(os.environ.get("ONCE", "10000"))
COUNTED = 1000


def once(command):
    """Seconds and peak memory in MB of a command, which must end well."""
    os.sync()
    start = time.monotonic()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    errors = process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.monotonic() - start
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode != 0:
        sys.exit(f"{command} ended with {process.returncode}: {errors.decode()[-2000:]}")
    return seconds, usage.ru_maxrss / 1024


def instructions(command, count):
    """Instructions of a command for each tunnel, in thousands; a dash where nobody counts."""
    if count != COUNTED or shutil.which("valgrind") is None:
        return "–"
    counting = ["valgrind", "--tool=callgrind", "--callgrind-out-file=/dev/null", *command]
    process = subprocess.run(counting, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    total = int(re.search(r"Collected : (\d+)", process.stderr).group(1))
    return f"{total / count / 1000:.0f}"


def middle(runs):
    """The median of the seconds, and the largest of the peaks."""
    return statistics.median(seconds for seconds, _ in runs), max(memory for _, memory in runs)


def listed(out, path):
    """Everything of an output as the list that the floor writes."""
    with open(path, "wb") as file:
        for folder, folders, files in os.walk(out):
            folders.sort()
            below = os.path.relpath(folder, out)
            if below != ".":
                file.write(f"d {below}\n".encode())
            for name in sorted(files):
                whole = os.path.join(folder, name)
                with open(whole, "rb") as source:
                    content = source.read()
                mode = os.stat(whole).st_mode & 0o777
                relative = os.path.relpath(whole, out)
                file.write(f"f {mode:o} {len(content)} {relative}\n".encode() + content)


def main():
    program, folder = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
    counts = [int(text) for text in sys.argv[3:]] or [1, 10, 100, 1000, 10000, 100000]
    os.makedirs(folder)
    floor = os.path.join(folder, "floor")
    subprocess.run(["rustc", "-O", "-o", floor, os.path.join(HERE, "floor.rs")], check=True)
    heads = ["tunnels", "check", "build", "compare", "rehearse", "peak MB (check, build, compare, rehearse)"]
    heads += ["check, 1000 instructions a tunnel", "(a) Jinja2", "(a) without writing", "(b) floor"]
    heads += ["(b), on the disk", "build : (a)", "build : (b)"]
    print(f"| {' | '.join(heads)} |\n|{'---|' * len(heads)}", flush=True)
    for count in counts:
        place = lambda name, number=0: os.path.join(folder, f"{count}-{name}-{number}")
        fleet, everything = place("fleet"), place("list")
        subprocess.run([sys.executable, os.path.join(HERE, "fleet.py"), str(count), fleet], check=True)
        description = os.path.join(fleet, "orchards.span.toml")
        render = os.path.join(HERE, "render.py")
        check, build, compare, rehearse, rendered, unwritten, bare, durable = [], [], [], [], [], [], [], []
        for number in range(RUNS if count <= ONCE else 1):
            check.append(once([program, "check", description]))
            build.append(once([program, "build", description, "-o", place("out", number)]))
            if number == 0:
                listed(place("out"), everything)
            os.sync()
            wrote = subprocess.run([floor, everything, place("bare", number)], check=True, stdout=subprocess.PIPE, text=True)
            both = [float(text) for text in wrote.stdout.split()]
            bare.append(both[0])
            durable.append(both[1])
            rendered.append(once([sys.executable, render, fleet, place("rendered", number)]))
            unwritten.append(once([sys.executable, render, fleet, "-"]))
            compare.append(once([program, "compare", place("out", number), "--against", description]))
            rehearse.append(once([program, "rehearse", description]))
        # The yardstick is one only if it writes the same.
        differ = ["diff", "-rq", "-x", "uspan-manifest.json", place("out"), place("rendered")]
        differ = subprocess.run(differ, stdout=subprocess.PIPE, text=True)
        if differ.returncode != 0:
            sys.exit(f"the templates write something else: {differ.stdout[:500]}")
        each = [middle(runs) for runs in (check, build, compare, rehearse)]
        (slow, _), (alone, _), bottom, disk = middle(rendered), middle(unwritten), statistics.median(bare), statistics.median(durable)
        cells = [str(count)] + [f"{seconds:.3f}" for seconds, _ in each] + [", ".join(f"{memory:.0f}" for _, memory in each)]
        cells += [instructions([program, "check", description], count), f"{slow:.3f}", f"{alone:.3f}", f"{bottom:.3f}", f"{disk:.3f}", f"1 : {slow / each[1][0]:.1f}", f"{each[1][0] / bottom:.2f} : 1"]
        print(f"| {' | '.join(cells)} |", flush=True)
    shutil.rmtree(folder)


main()
