"""Runs a script or module on one core alone: on_core.py CORE (-m MODULE | SCRIPT) [ARGUMENT...].

Two processes beside each other, of two threads each, spend a third of their time handing the interpreter and the
cores to and fro; each on a core of its own does not. What counts cores still counts all, so that as many threads work
as in use.
"""

import os
import runpy
import sys

import windfell.job  # noqa: F401 - it counts the cores before there is just one


def main() -> None:
    core, *words = sys.argv[1:]
    os.sched_setaffinity(0, {int(core)})
    if words[0] == "-m":
        sys.argv = words[1:]
        runpy.run_module(words[1], run_name="__main__", alter_sys=True)
    else:
        sys.argv = words
        sys.path.insert(0, os.path.dirname(os.path.abspath(words[0])))
        runpy.run_path(words[0], run_name="__main__")


if __name__ == "__main__":
    main()
