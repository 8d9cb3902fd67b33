"""Finds the hosts of all requests before the first one, and checks each request."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from yarl import URL

from wolfbane.basis.this_machine import is_loopback
from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.runner.calls import base_url
from wolfbane.kinds.workflow.runner.inner import reached


def addresses_of(library: DocumentSet, workflow: str, base: str) -> Iterator[str]:
    """The start of the URLs of all requests in a workflow and in the workflows that it calls."""
    for here, name in reached(library, workflow):
        for step in here.document.workflows[name]["steps"]:
            if "workflowId" not in step:
                yield base_url(here.operation(step), base)


class AllowedHosts:
    """Decides whether a load test may use a URL: only this machine and given hosts are allowed."""

    def __init__(self, hosts: Collection[str]) -> None:
        self._hosts = set(hosts)

    def __call__(self, url: URL) -> bool:
        host = url.raw_host or ""
        if host in self._hosts:
            return True
        if is_loopback(host):
            self._hosts.add(host)  # it is asked for each request
            return True
        return False
