"""Deployments behind the pages: one for each source at a time, on a thread that ends with the application."""

from __future__ import annotations

import logging
import threading
from dataclasses import dataclass, field

from young_prism.core.errors import PublishError, YoungPrismError
from young_prism.engine.handoff.deploy import DeployPlan, deploy
from young_prism.messages.publishing import failed

_log = logging.getLogger(__name__)


@dataclass(slots=True)
class Deployment:
    """A deployment that is active or over: how far it is, and its result in a sentence."""

    target: str
    total: int
    done: int = 0
    over: bool = False
    result_text: str = ""
    failures: list[str] = field(default_factory=list)
    stop: threading.Event = field(default_factory=threading.Event)


class DeploymentService:
    """Starts and stops deployments. What was sent stays, and the next deployment continues from there."""

    def __init__(self) -> None:
        self._newest: dict[int, Deployment] = {}
        self._threads: list[threading.Thread] = []

    def newest(self, source_id: int) -> Deployment | None:
        """Return the newest deployment of a source since the start of the server."""
        return self._newest.get(source_id)

    def start(self, source_id: int, plan: DeployPlan, target: str) -> None:
        """Carry out a plan."""
        deployment = self._newest[source_id] = Deployment(target, len(plan.send))
        thread = threading.Thread(target=_run, args=(plan, deployment), name="publishing")
        self._threads = [known for known in self._threads if known.is_alive()] + [thread]
        thread.start()

    def stop(self, source_id: int) -> None:
        """Stop the deployment of a source after the files under way."""
        deployment = self._newest.get(source_id)
        if deployment:
            deployment.stop.set()

    def close(self) -> None:
        """Stop all deployments and wait for their end."""
        for deployment in self._newest.values():
            deployment.stop.set()
        for thread in self._threads:
            thread.join()


def _run(plan: DeployPlan, deployment: Deployment) -> None:
    def on_progress(done: int, _total: int) -> None:
        deployment.done = done

    try:
        result = deploy(plan, progress=on_progress, is_cancelled=deployment.stop.is_set)
        deployment.failures = [str(error) for error in result.failures]
        deployment.result_text = f"{result.sent} sent, {plan.same} there already, {result.removed} deleted."
        if result.stopped:
            deployment.result_text = (
                f"Stopped after {result.sent} of {deployment.total}; publish again to continue."
            )
        elif result.failures:
            deployment.result_text = (
                f"{result.sent} sent, {len(result.failures)} failed. The manifest was not sent."
            )
    except YoungPrismError as error:
        deployment.failures = [str(error)]
        deployment.result_text = "Publishing stopped."
    except Exception as error:  # noqa: BLE001  (the page must not wait for ever)
        _log.exception("a deployment ended with an unexpected error")
        deployment.failures = [str(PublishError.of(failed(type(error).__name__), file=deployment.target))]
        deployment.result_text = "Publishing stopped."
    finally:
        deployment.over = True
