"""What a person sees of the scene that a graphics card draws."""

from thresher.engine.card_jobs.access import CardAccess
from thresher.engine.run.card_step import jobs_on
from thresher.graphics.findings import artefact_finding
from thresher.model.card_port import Artefact, CardUse
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding


class CardService:
    """Takes what is seen, and holds it against the frames that were compared."""

    def __init__(self, access: CardAccess) -> None:
        """Serve one bench."""
        self._access = access

    def report(self, card: str, seen: Artefact) -> Finding:
        """Keep that a person sees an artefact. Raises EnvironmentFault where no scene is drawn on that card."""
        run = self._access.record.run
        jobs = [job for job in jobs_on(run, card) if job.order.use is CardUse.RASTER] if run is not None else []
        if not jobs:
            remedy = "Start a raster load on it, and report what you see while it runs."
            raise EnvironmentFault(f"recording {seen.value} on {card}", "no scene is drawn on it now", remedy)
        job = jobs[0]
        finding = artefact_finding(card, seen.value, frames_right=not job.wrong_count)
        if job.software:
            title = f"{seen.value.capitalize()} seen while the software renderer draws"
            self._access.note(title, "no card was tested: suspect the display, its cable, or the desktop")
            return finding
        self._access.find(finding, job.temperature())
        return finding
