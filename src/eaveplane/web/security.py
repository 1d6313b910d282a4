"""Who may talk to the page: this machine's browser, from the page's own forms, with nothing fetched from elsewhere."""

from __future__ import annotations

from typing import NoReturn

from flask import Flask, Response, abort, g, render_template, request
from flask_wtf.csrf import CSRFError, CSRFProtect
from werkzeug.exceptions import HTTPException

from ..imaging.errors import PictureError

LOOPBACK = frozenset({"127.0.0.1", "localhost", "[::1]"})
VIEWER_STYLE = "'sha256-9xTiqzfwFaL2SGb1rmr8gysEwVVjIvqWAgmZgqFqpEE='"
"""The one style element that the shipped viewer of tiles puts into the page."""
POLICY = (
    f"default-src 'none'; script-src 'self'; style-src 'self' {VIEWER_STYLE}; img-src 'self' blob: data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)


def protect(app: Flask) -> None:
    """Check hosts and tokens, set the policy of contents, answer errors in words."""
    CSRFProtect(app)

    @app.before_request
    def own_host_only() -> None:
        # a name that other people's pages could point at this machine must not be answered
        name = request.host.rsplit(":", 1)[0] if not request.host.endswith("]") else request.host
        if name not in LOOPBACK:
            abort(421)
        origin = request.headers.get("Origin")
        if request.method not in ("GET", "HEAD", "OPTIONS") and origin not in (None, f"{request.scheme}://{request.host}"):
            abort(403)

    @app.after_request
    def policy(response: Response) -> Response:
        # a contact sheet carries its own style, and a policy that lets nothing run at all
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "same-origin"
        response.headers["Cross-Origin-Resource-Policy"] = "same-origin"
        if "Cache-Control" not in response.headers:
            response.headers["Cache-Control"] = "no-store"
        return response

    @app.errorhandler(CSRFError)
    def stale(error: CSRFError) -> tuple[str, int]:
        return _told("This page is out of date. Load it again and repeat what you did.", 400)

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> tuple[str, int]:
        said = {
            404: "There is no such page, scene or frame. It may have been removed in another tab.",
            405: "That cannot be done this way.",
            413: "That is more than can be taken at once.",
            421: "Eaveplane answers on this machine only. Open it as localhost.",
            403: "That came from another page and was refused.",
        }
        return _told(g.pop("said", None) or said.get(error.code or 500, error.description or "That did not work."), error.code or 500)

    @app.errorhandler(PictureError)
    def picture(error: PictureError) -> tuple[str, int]:
        return _told(str(error), 409)

    @app.errorhandler(Exception)
    def unforeseen(error: Exception) -> tuple[str, int]:
        app.logger.exception("a request failed")
        return _told("Something went wrong that should not. What you decided so far is kept; the server's log says more.", 500)


def _told(message: str, code: int) -> tuple[str, int]:
    if request.headers.get("HX-Request") or request.accept_mimetypes.best == "application/json" or request.headers.get("X-Plain"):
        return message, code
    return render_template("shell/error.html", message=message), code


def refuse(message: str, code: int = 400) -> NoReturn:
    """End the request with a sentence for the person."""
    g.said = message
    abort(code)
