"""What comes in: meshes, newer versions of them, pictures, saved projects. It goes onto the disk as it comes; jobs read it."""

from django.http import HttpRequest
from ninja import File, Form, Router, UploadedFile

from quilt_core.errors import QuiltError
from quilt_core.formats.pictures import size_of
from quilt_core.formats.wiring import safe_name

from .archives import clean_path
from .asked import project_of
from .jobfile.saving import job_of
from .jobfile.text import written
from .jobs.uploads import taken
from .projects.files import path_of
from .projects.models import Job, Project
from .projects.shown import of_original
from .rights import CHANGE, LOOK, SIGNED_IN
from .schemas.asked import JobOut, OpenedOut
from .schemas.settings import PictureOut
from .schemas.state import JobFileOut
from .work import started

router = Router()


def _own_name(file: UploadedFile, usual: str) -> str:
    """The name of an uploaded file without the folders that some browsers send."""
    return clean_path((file.name or usual).replace("\\", "/").rsplit("/", 1)[-1][-120:])


@router.post("/open", response=OpenedOut)
@SIGNED_IN
def open_project(request: HttpRequest, file: UploadedFile = File(...)) -> OpenedOut:
    """Upload a project that was saved as one file; a job fills a new project from it."""
    name = _own_name(file, "project.zip")
    stored = taken([file], [name])
    project = Project.objects.create(name=name.removesuffix(".zip").removesuffix(".quilt") or "Opened")
    return OpenedOut(project=project.pk, job=started(Job.objects.create(project=project, kind="open", params={"files": stored})))


@router.post("/open-job", response=OpenedOut)
@SIGNED_IN
def open_job(request: HttpRequest, files: list[UploadedFile] = File(...), paths: list[str] = Form(...)) -> OpenedOut:
    """Upload a job file with the mesh files that it takes in; a job does it in a new project."""
    stored = taken(files, paths)
    project = Project.objects.create(name="A job")
    return OpenedOut(project=project.pk, job=started(Job.objects.create(project=project, kind="job", params={"files": stored})))


@router.get("/projects/{project_id}/job-file", response=JobFileOut)
@LOOK
def job_file(request: HttpRequest, project_id: int) -> JobFileOut:
    """The project as a job file, and in words what of it does not stand there."""
    project = project_of(project_id)
    saved = job_of(project)
    return JobFileOut(name=f"{safe_name(project.name)}.toml", text=written(saved.job).decode(), notes=saved.notes)


@router.post("/projects/{project_id}/files/{file_id}/replace", response=JobOut)
@CHANGE
def compare_newer(
    request: HttpRequest, project_id: int, file_id: int, files: list[UploadedFile] = File(...), paths: list[str] = Form(...)
) -> JobOut:
    """Upload a newer version of a file; a job tells what it would change. The job `replace` then takes it over."""
    project = project_of(project_id)
    if project.head is None or file_id not in project.head.files:
        raise QuiltError("The file that should be replaced is not there any more.")
    return started(Job.objects.create(project=project, kind="compare", params={"file": file_id, "files": taken(files, paths)}))


@router.post("/projects/{project_id}/pictures", response=PictureOut)
@CHANGE
def bring_picture(request: HttpRequest, project_id: int, file: UploadedFile = File(...)) -> PictureOut:
    """Upload a picture to lay under a tile; which tile is a setting."""
    project = project_of(project_id)
    name = _own_name(file, "picture")
    sha = taken([file], [name])[0]["sha"]
    of_original(sha, 512, name)  # whether it can be decoded is told now
    width, height = size_of(path_of(sha)) or (0, 0)
    # The row says whose picture it is until a setting names it.
    Job.objects.create(project=project, kind="picture", state="done", params={"files": [{"path": name, "sha": sha}]})
    return PictureOut(sha=sha, name=name, width=width, height=height)


@router.post("/projects/{project_id}/files", response=JobOut)
@CHANGE
def bring_in(
    request: HttpRequest, project_id: int, files: list[UploadedFile] = File(...), paths: list[str] = Form(...), unit_m: float = Form(1.0)
) -> JobOut:
    """Upload files; a job reads them. `paths` holds the relative path of each, so that folders keep their shape."""
    project = project_of(project_id)
    if not 1e-6 <= unit_m <= 1e6:
        raise QuiltError("The unit must be between a micrometre and a thousand kilometres.")
    return started(Job.objects.create(project=project, kind="import", params={"files": taken(files, paths), "unit_m": unit_m}))
