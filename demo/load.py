"""Puts the demo projects into the database, once."""

from __future__ import annotations

SETS = (("Tide mill, six parts", "small_set"), ("The whole quay", "large_set"))


def load_demo() -> None:
    """Bring in both demo sets unless they are there (deleted ones count as there)."""
    from quilt_server.jobs.kinds.bring_in import run_import
    from quilt_server.projects.models import Job, Project
    from quilt_server.projects.sources import store

    from . import quay

    for name, maker in SETS:
        if Project.objects.filter(demo=True, name=name).exists():
            continue
        project = Project.objects.create(name=name, demo=True)
        files = [{"path": path, "sha": store(data)} for path, data in getattr(quay, maker)().items()]
        job = Job.objects.create(project=project, kind="import", state="running", params={"files": files, "unit_m": 1.0})
        run_import(job)
        job.state = "done"
        job.save()
