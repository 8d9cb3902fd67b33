"""Runs a bridge suite, controlled through the channel."""

from __future__ import annotations

import os
import sys
import tempfile
from contextlib import nullcontext

from wolfbane.kinds.bridge.runner.chosen import ChosenTests
from wolfbane.kinds.bridge.runner.listing import Lister
from wolfbane.kinds.bridge.runner.one_start import LauncherStarter
from wolfbane.kinds.bridge.runner.persistent_launcher import PersistentLauncher
from wolfbane.kinds.worker.channel import connect


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {sys.version.split()[0]}")
    tempfile.tempdir = os.path.dirname(options["capture"])  # it goes with the run, even if killed
    lister = Lister(channel, options)
    run = options["bridge"]["run"]
    serve = run.get("serve")
    with PersistentLauncher(serve["done"], run["env"]) if serve else nullcontext() as standing:
        for request in requests:
            if request["type"] == "collect":
                for path in request["files"]:
                    lister.collect(path)
            elif request["type"] == "run":
                starter = LauncherStarter(channel, options, request, standing=standing)
                chosen = ChosenTests(starter, options, request)
                chosen.run()
                channel.send(
                    {
                        "type": "ran",
                        "file": request["file"],
                        "unseen": chosen.unseen,
                        "names_files": starter.entries_name_files,
                        "ran_again": chosen.ran_again,
                    }
                )


if __name__ == "__main__":
    main()
