#!/usr/bin/env python3
"""Whole-process figures on generated fleets: time and peak memory of each command, and the yardsticks beside them.

measure.py PROGRAM FOLDER [N ...]: PROGRAM is the release build of uspan; FOLDER is where fleets and outputs go, and the file
system that is measured. Prints a Markdown table. Every run writes to a folder of its own, and all are removed at the end: ext4 makes
new files slowly where many were deleted a moment ago. The yardsticks are measured in the same run: `render.py` (Jinja2, no checks) and
`floor.rs` (the same bytes, nothing computed). Each figure is the median of RUNS runs; with more than RENDERED tunnels Jinja2 is not
measured.
"""
import os
import shutil
import statistics
import subprocess
import sys
import time

HERE = os.path.dirname(os.path.abspath(__file__))
RUNS = int(os.environ.get("RUNS", "3"))
RENDERED = int(os.environ.get("RENDERED", "10000"))


def run(command):
    """Median seconds and the largest peak memory in MB of a command, which is made for each run; it must end well."""
    seconds, memory = [], 0
    for number in range(RUNS):
        os.sync()
        start = time.monotonic()
        process = subprocess.Popen(command(number), stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        errors = process.stderr.read()
        _, status, usage = os.wait4(process.pid, 0)
        seconds.append(time.monotonic() - start)
        process.returncode = os.waitstatus_to_exitcode(status)
        if process.returncode != 0:
            sys.exit(f"{command(number)} ended with {process.returncode}: {errors.decode()[-2000:]}")
        memory = max(memory, usage.ru_maxrss / 1024)
    return statistics.median(seconds), memory


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
    print("| tunnels | check | build | compare | rehearse | peak MB (check, build, compare, rehearse) | (a) Jinja2 | (b) floor | build : (a) | build : (b) |")
    print("|---|---|---|---|---|---|---|---|---|---|")
    for count in counts:
        place = lambda name, number=0: os.path.join(folder, f"{count}-{name}-{number}")
        fleet, everything = place("fleet"), place("list")
        subprocess.run([sys.executable, os.path.join(HERE, "fleet.py"), str(count), fleet], check=True)
        description = os.path.join(fleet, "orchards.span.toml")
        check = run(lambda _: [program, "check", description])
        build = run(lambda number: [program, "build", description, "-o", place("out", number)])
        compare = run(lambda _: [program, "compare", place("out"), "--against", description])
        rehearse = run(lambda _: [program, "rehearse", description])
        rendered = None
        if count <= RENDERED:
            render = os.path.join(HERE, "render.py")
            rendered = run(lambda number: [sys.executable, render, fleet, place("rendered", number)])[0]
            # The yardstick is one only if it writes the same.
            differ = ["diff", "-rq", "-x", "uspan-manifest.json", place("out"), place("rendered")]
            differ = subprocess.run(differ, stdout=subprocess.PIPE, text=True)
            if differ.returncode != 0:
                sys.exit(f"the templates write something else: {differ.stdout[:500]}")
        listed(place("out"), everything)
        bare = []
        for number in range(RUNS):
            os.sync()
            bare.append(float(subprocess.run([floor, everything, place("bare", number)], check=True, stdout=subprocess.PIPE, text=True).stdout))
        bottom = statistics.median(bare)
        peaks = ", ".join(f"{one[1]:.0f}" for one in (check, build, compare, rehearse))
        seconds = " | ".join(f"{one[0]:.3f}" for one in (check, build, compare, rehearse))
        beside = f"{rendered:.3f} | {bottom:.3f} | 1 : {rendered / build[0]:.1f}" if rendered else f"- | {bottom:.3f} | -"
        print(f"| {count} | {seconds} | {peaks} | {beside} | {build[0] / bottom:.1f} : 1 |", flush=True)
    shutil.rmtree(folder)


main()
