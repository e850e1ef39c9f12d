"""The application factory: blueprints, template words, security headers, errors as pages."""

from __future__ import annotations

import hashlib
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any, cast

from filelock import BaseFileLock
from flask import Flask, Response, render_template, request, url_for
from flask.sessions import SecureCookieSessionInterface
from flask_wtf.csrf import CSRFProtect
from jinja2 import BaseLoader, ChoiceLoader, FileSystemLoader
from werkzeug.exceptions import HTTPException, NotFound, SecurityError

from young_prism.core.errors import BusyError, RowNumberError, StoreError, YoungPrismError
from young_prism.engine.intake.quick_render import QuickRenderer
from young_prism.engine.output.atomic import remove_leftovers
from young_prism.engine.proof.service import ProofService
from young_prism.engine.workers.bounded import BoundedCalls
from young_prism.messages import page_errors
from young_prism.messages.api import NO_SUCH_ADDRESS, REQUEST_DOCUMENTED, SERVER_ERROR, method_not_allowed
from young_prism.messages.message import Message
from young_prism.reports.single_file import TEMPLATES
from young_prism.reports.template_filters import register_filters
from young_prism.services.auth.tokens import TokenService
from young_prism.services.catalogue import Catalogues
from young_prism.services.conversions import ConversionService
from young_prism.services.deployments import DeploymentService
from young_prism.services.in_place import InPlaceService
from young_prism.services.inspection import InspectionService
from young_prism.services.page_checks import PageCheckService
from young_prism.services.publishing import UploadPublisher
from young_prism.services.runs.service import RunService
from young_prism.services.settings import Settings
from young_prism.services.uploads.files import UploadFolders
from young_prism.services.uploads.schemas import UploadSerializer
from young_prism.services.uploads.service import UploadService
from young_prism.services.watchers import WatchService
from young_prism.services.watermark_library import WatermarkLibrary
from young_prism.services.webhooks import WebhookDispatcher
from young_prism.store.store import Store
from young_prism.web import (
    access,
    api,
    conversion,
    desk,
    documentation,
    files,
    handoff,
    intake,
    media,
    picture,
    proof,
    recipe,
    run,
    sources,
    uploads,
)
from young_prism.web import (
    saved_recipes as library,
)
from young_prism.web.bodies import raise_limits
from young_prism.web.context import Services, services, services_of
from young_prism.web.data_folder import hold_data_folder, session_key
from young_prism.web.navigation import navigation
from young_prism.web.problems import Problem, answer_to
from young_prism.web.rates import Rates
from young_prism.web.security import (
    answer_unknown_host,
    check_text,
    is_api,
    register_guards,
)

_CONTENT_SECURITY_POLICY = (
    "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; "
    "form-action 'self'; frame-ancestors 'none'"
)


def create_app(settings: Settings) -> Flask:
    """Return the application; call `close_app` when it is done with.

    Raises `ServeError` where another server uses the data folder.
    """
    # A path that is relative would be taken from another folder by each of the libraries that get it.
    settings = replace(settings, data=settings.data.resolve())
    lock = hold_data_folder(settings.data)
    try:
        return _create_app(settings, lock)
    except BaseException:
        lock.release()
        raise


def _create_app(settings: Settings, lock: BaseFileLock) -> Flask:
    app = Flask(__name__, template_folder="shared/templates")
    loaders = [FileSystemLoader(TEMPLATES), cast("BaseLoader", app.jinja_loader)]
    app.jinja_loader = ChoiceLoader(loaders)
    app.session_interface = _Sessions()
    app.config.update(
        SECRET_KEY=session_key(settings.data),
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        WTF_CSRF_TIME_LIMIT=None,  # a page left open overnight still works in the morning
        MAX_CONTENT_LENGTH=1_000_000,
    )
    store = Store(settings.database)
    for waiting in settings.uploads.glob("*/waiting"):
        remove_leftovers(waiting)  # what an earlier server was receiving when it ended
    app.extensions["young_prism"] = _services(settings, store)
    app.extensions["young_prism.lock"] = lock
    register_guards(app)
    # Before the check of the token, which may read a form already.
    app.before_request(raise_limits)
    app.before_request(check_text)
    CSRFProtect(app).exempt(api.blueprint)  # no cookie opens it, and foreign pages are refused
    for part in (
        sources,
        conversion,
        uploads,
        intake,
        recipe,
        library,
        picture,
        proof,
        run,
        handoff,
        files,
        access,
        api,
        media,
        desk,
        documentation,
    ):
        app.register_blueprint(part.blueprint)
    _add_template_values(app)
    _add_errors(app)
    app.after_request(_secure)
    return app


def _services(settings: Settings, store: Store) -> Services:
    catalogues = Catalogues(store, settings.watermarks)
    inspections = InspectionService(store, catalogues, settings)
    runs = RunService(store, settings, inspections)
    quick_renderer = QuickRenderer(jobs=settings.jobs, memory=settings.memory)
    serializer = UploadSerializer(store, settings.public)
    webhooks = WebhookDispatcher(store, serializer, private=settings.allows_private_webhooks)
    bounded = BoundedCalls(jobs=settings.jobs)
    folders = UploadFolders(
        uploads=settings.uploads,
        outputs=settings.outputs,
        cache=settings.cache,
        limits=settings.limits,
        watermarks=settings.watermarks,
        call=bounded,
    )
    publisher = UploadPublisher(settings)
    uploads = UploadService(
        store,
        quick_renderer,
        folders,
        start_run=runs.start_for_uploads,
        publish=publisher.submit,
        on_done=webhooks.enqueue,
    )
    runs.on_ended(uploads.on_run_finished)
    uploads.resume()
    return Services(
        settings=settings,
        store=store,
        catalogues=catalogues,
        inspections=inspections,
        runs=runs,
        watermarks=WatermarkLibrary(settings.watermarks, call=bounded),
        proofs=ProofService(settings.data / "proofs", jobs=settings.jobs, memory=settings.memory),
        quick_renderer=quick_renderer,
        uploads=uploads,
        upload_serializer=serializer,
        tokens=TokenService(store),
        webhooks=webhooks,
        rates=Rates(settings.per_minute),
        watchers=WatchService(store, runs),
        deployments=DeploymentService(),
        publisher=publisher,
        page_checks=PageCheckService(),
        in_place=InPlaceService(store, settings, inspections),
        conversions=ConversionService(
            settings.data / "conversions",
            settings.limits,
            jobs=settings.jobs,
            memory=settings.memory,
            call=bounded,
        ),
        bounded=bounded,
    )


def close_app(app: Flask) -> None:
    """Stop what runs behind the pages, and close the database."""
    parts = services_of(app)
    parts.watchers.close()
    parts.deployments.close()
    parts.page_checks.close()
    parts.in_place.close()
    parts.proofs.close()
    parts.conversions.close()
    parts.bounded.close()
    parts.quick_renderer.close()
    parts.inspections.cancel()  # those of runs too, which then end
    parts.runs.close()
    parts.inspections.close()
    parts.publisher.close()
    parts.webhooks.close()
    parts.store.close()
    app.extensions["young_prism.lock"].release()


class _Sessions(SecureCookieSessionInterface):
    """Sessions in a signed cookie, which is sent over TLS alone where the request came by it."""

    def get_cookie_secure(self, app: Flask) -> bool:
        """Whether the cookie is marked `Secure` (RFC 6265, 4.1.2.5)."""
        del app
        return request.is_secure


def _add_template_values(app: Flask) -> None:
    register_filters(app.jinja_env)
    app.jinja_env.globals.update(asset=_asset)

    @app.context_processor
    def every_page() -> dict[str, Any]:
        theme = request.cookies.get("theme")
        store = services().store
        try:
            active, sources = store.runs.current(), store.sources.all()
        except StoreError:  # so that the page that says so can be shown
            active, sources = None, []
        return {
            "page_help": documentation.page_help,
            "stops": navigation,
            "theme": theme if theme in ("light", "dark") else None,
            "active": active,
            "all_sources": sources,
        }


def _asset(name: str, endpoint: str = "static") -> str:
    """Return the address of our file with the hash of its content, so that it may be cached for ever."""
    return url_for(endpoint, filename=name, v=_digest(endpoint, name))


@cache
def _digest(endpoint: str, name: str) -> str:
    part = endpoint.removesuffix(".static")
    here = Path(__file__).parent
    folder = here / "static" if part == "static" else here / part / "static"
    return hashlib.sha256((folder / name).read_bytes()).hexdigest()[:12]


def _add_errors(app: Flask) -> None:
    @app.errorhandler(SecurityError)
    def unknown_host(_error: SecurityError) -> Response:
        return answer_unknown_host()

    @app.errorhandler(RowNumberError)
    def no_such_row(_error: RowNumberError) -> tuple[str, int] | Response:
        return page(NotFound())

    @app.errorhandler(HTTPException)
    def page(error: HTTPException) -> tuple[str, int] | Response:
        code = error.code or 500
        if is_api():
            return _api_error(error, code)
        texts = {
            400: page_errors.INVALID_REQUEST,
            404: page_errors.NOT_FOUND,
            413: page_errors.TOO_LARGE,
            405: page_errors.METHOD_NOT_ALLOWED,
            500: page_errors.SERVER_ERROR,
        }
        title, remedy = texts.get(code) or page_errors.unexpected(error.name)
        own_words = error.description if code == 404 and "“" in str(error.description) else None
        return render_template("error.html", title=title, what=own_words, remedy=remedy, code=code), code

    @app.errorhandler(BusyError)
    def busy(error: BusyError) -> tuple[str, int, dict[str, str]]:
        text = render_template("error.html", title=error.what, remedy=error.remedy, code=503)
        return text, 503, {"Retry-After": "5"}

    @app.errorhandler(YoungPrismError)
    def answer_error(error: YoungPrismError) -> tuple[str, int]:
        prefix = f"{error.file}: " if error.file else ""
        return render_template(
            "error.html",
            title=page_errors.FAILED_TITLE,
            what=prefix + error.what,
            remedy=error.remedy,
            code=409,
        ), 409


def _api_error(error: HTTPException, code: int) -> Response:
    """Answer a request that no operation handles: unknown address or method, or an internal error."""
    if code == 500:
        return answer_to(Problem.of(500, SERVER_ERROR))
    headers = {name: value for name, value in error.get_headers() if name.lower() == "allow"}
    messages = {
        404: NO_SUCH_ADDRESS,
        405: method_not_allowed(method=request.method, allowed=headers.get("Allow", "other methods")),
    }
    message = messages.get(code, Message(error.description or error.name, REQUEST_DOCUMENTED))
    return answer_to(Problem.of(code, message, headers=headers))


def _secure(response: Response) -> Response:
    response.headers.setdefault("Content-Security-Policy", _CONTENT_SECURITY_POLICY)
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "same-origin")
    if request.blueprint == "media":
        return response
    if request.args.get("v") and response.status_code == 200:
        response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    elif response.mimetype == "text/html":
        response.headers.setdefault("Cache-Control", "no-store")
    return response
