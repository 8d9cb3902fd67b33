"""The watchdog of a run. It ends the run's processes if Wolfbane itself stops unexpectedly.

Run as a script with a mark, a folder and an import path. Standard input is a pipe whose other end
only Wolfbane has. It contains the process ids of the run's members, one per line. If the pipe ends
without the word ``over``, every process that belongs to the run is killed, and the folder is
removed. Nothing is imported before that, because every run starts a watchdog.
"""

import os
import sys


def main() -> None:
    """Wait for the end of the pipe, and act unless the run has ended."""
    *members, last = sys.stdin.buffer.read().split(b"\n")
    if last != b"over":
        sys.path[:] = sys.argv[3].split(os.pathsep)
        from pathlib import Path

        from wolfbane.workers.run_processes import end_marked, remove_folder

        end_marked(sys.argv[1], {int(member) for member in members})
        remove_folder(Path(sys.argv[2]))
    os._exit(0)  # Wolfbane waits for it: an interpreter's own end takes as long as its start


if __name__ == "__main__":
    main()
