"""The context that all parts of a run share."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wolfbane.browsers.run_browsers import RunBrowsers
from wolfbane.environments import Environment, Mask
from wolfbane.results.evidence_files import EvidenceFiles
from wolfbane.results.result_builder import ResultBuilder
from wolfbane.workers.launcher import WorkerLauncher
from wolfbane.workers.pool import Pool
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.workers.prewarm import HeadStart

_SHORTEST_IN_NAMES = 6
"""Maximum length of a non-word secret that test names may contain by chance."""


class RunContext:
    """The workspace, the environments, the pool, and the builder of results.

    ``folder`` is the run's own. ``mask`` hides secrets in every text.
    """

    def __init__(
        self,
        *,
        workspace: Workspace,
        environments: Sequence[Environment],
        folder: Path,
        browsers: RunBrowsers,
        mask: Mask,
        jobs: int,
        no_build: bool = False,
        head_start: HeadStart | None = None,
    ) -> None:
        self.workspace, self.folder, self.browsers, self.mask = workspace, folder, browsers, mask
        self.launcher = WorkerLauncher(
            workspace, environments, browsers, no_build=no_build, head_start=head_start
        )
        self.environments = self.launcher.environments
        self.pool = Pool(self.launcher, jobs)
        names = {label: label or each.name for label, each in self.environments.items()}
        self.results = ResultBuilder(workspace.root, mask, names)
        self.evidence = EvidenceFiles(workspace.home, folder, mask)
        secrets = (s for each in environments for s in each.secrets)
        self._long_secrets = Mask(s for s in secrets if len(s) >= _SHORTEST_IN_NAMES)
        self._began = time.monotonic()

    def names_a_secret(self, name: str) -> bool:
        """Whether a test's name contains a secret.

        Names cannot be masked, because they select tests.
        """
        return self._long_secrets(name) != name

    def began(self, seconds: float) -> float:
        """The start, in seconds of the run, of something that took this long and has just ended."""
        return round(max(time.monotonic() - self._began - seconds, 0.0), 3)
