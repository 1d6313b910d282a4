"""The queue: what is being computed, what waits, what ended and how."""

from __future__ import annotations

from flask import Blueprint, abort, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from ...pipeline.cluster import Cluster
from ...store import jobs, settings
from ..desk import desk
from ..security import refuse

blueprint = Blueprint("queue", __name__, template_folder="templates", url_prefix="/queue")


@blueprint.app_context_processor
def work() -> dict[str, object]:
    """What the head of every page tells of the queue."""
    return {"open_jobs": lambda: jobs.open_jobs(desk().db), "seconds_left": jobs.seconds_left}


@blueprint.get("/")
def page() -> str:
    return render_template("queue/page.html", ended=jobs.recent(desk().db), cluster=settings.setting(desk().db, settings.CLUSTER))


@blueprint.post("/cluster")
def cluster() -> AnyResponse:
    """Where the work is done: on a cluster, or, with an empty address, on this machine."""
    address = request.form.get("address", "").strip()
    if address:
        try:
            found = Cluster(address)
            try:
                found.check_sees(desk().library.home)
            finally:
                found.shutdown()
        except ValueError as error:
            refuse(str(error))
    settings.set_to(desk().db, settings.CLUSTER, address)
    desk().worker.work_elsewhere()
    return redirect(url_for("queue.page"))


@blueprint.get("/list")
def listing() -> str:
    return render_template("queue/list.html", ended=jobs.recent(desk().db))


@blueprint.get("/head")
def head() -> str:
    return render_template("queue/head.html")


@blueprint.post("/<int:number>/cancel")
def cancel(number: int) -> str:
    if jobs.job(desk().db, number) is None:
        abort(404)
    jobs.ask_to_cancel(desk().db, number)
    return listing() if request.headers.get("HX-Target") == "queue" else head()
