"""A zip that is sent while it is made, the papers that belong to a build, and publishing."""

from __future__ import annotations

from urllib.parse import parse_qsl, urlencode

from flask import Response, abort, flash, jsonify, redirect, request, url_for
from werkzeug import Response as BaseResponse
from werkzeug.datastructures import MultiDict

from young_prism.core.errors import YoungPrismError
from young_prism.engine.handoff.deploy import (
    DeployPlan,
    plan_deploy,
)
from young_prism.engine.handoff.package import (
    Package,
    chunks,
    last_packed,
    renditions_csv,
)
from young_prism.engine.output.manifest_file import manifest_file
from young_prism.messages.notices import ALREADY_PUBLISHING
from young_prism.services.publishing import open_storage
from young_prism.web.context import services, source_or_404
from young_prism.web.handoff.common import SourceBuild, blueprint, nothing_yet, page, start, text_file
from young_prism.web.security import with_query

_FIELDS = ("target", "endpoint", "delete", "overwrite")


@blueprint.get("/s/<slug>/hand-off/package")
def package(slug: str) -> str:
    """Show what there is to take away, and where it can be published. Nothing is sent anywhere."""
    return _show(slug, request.args, preview=False)


@blueprint.post("/s/<slug>/hand-off/package")
def preview_publish(slug: str) -> str:
    """Show what publishing to a target would do. The target is asked, with keys: never for a link or another site's page."""
    return _show(slug, request.form, preview=True)


def _show(slug: str, values: MultiDict[str, str], *, preview: bool) -> str:
    source, catalogue, build = start(slug)
    if build is None or not build.delivered:
        return nothing_yet(source)
    # Before the plan: one that ends in between is shown as going on, and the page asks again.
    going = services().deployments.newest(source.id)
    over = going is not None and going.over
    whole, changed, error = _packages(build)
    target = values.get("target", "").strip()
    plan, refused = _plan(build, target, values) if target and preview else (None, "")
    return page(
        "package",
        source,
        catalogue,
        build,
        whole=whole,
        changed=changed,
        error=error,
        target=target,
        asked=values,
        endpoints=services().settings.endpoints,
        plan=plan,
        refused=refused,
        going=going,
        over=over,
        query=urlencode({name: values[name] for name in _FIELDS if name in values}),
    )


@blueprint.get("/s/<slug>/hand-off/package.zip")
def package_zip(slug: str) -> Response:
    """Send the build as a zip, or with `changed` what is new since the last one."""
    source, _, build = start(slug)
    if build is None:
        abort(404)
    since = last_packed(build.out) if "changed" in request.args else None
    package = Package.from_output(build.out, since)
    name = f"{source.slug}{'-changed' if since is not None else ''}.zip"
    headers = {
        "Content-Disposition": f'attachment; filename="{name}"',
        "Content-Length": str(len(package.stream())),
    }
    return Response(chunks(package), mimetype="application/zip", headers=headers)


@blueprint.get("/s/<slug>/hand-off/renditions.csv")
def package_csv(slug: str) -> Response:
    """Send a line for each rendition."""
    source, _, build = start(slug)
    if build is None:
        abort(404)
    every = tuple(
        (original, rendition) for original in build.manifest.originals for rendition in original.renditions
    )
    return text_file(f"{source.slug}-renditions.csv", renditions_csv(every), "text/csv")


@blueprint.get("/s/<slug>/hand-off/manifest.json")
def package_manifest(slug: str) -> Response:
    """Send the manifest as it lies in the output folder."""
    _, _, build = start(slug)
    if build is None:
        abort(404)
    text = manifest_file(build.out).read_text(encoding="utf-8")
    return text_file("manifest.json", text, "application/json")


@blueprint.post("/s/<slug>/hand-off/publish")
def publish_now(slug: str) -> BaseResponse:
    """Begin to publish; the page follows it."""
    source, _, build = start(slug)
    target = request.form.get("target", "").strip()
    if build is None or not target:
        abort(404)
    known = services().deployments.newest(source.id)
    if known and not known.over:
        flash(ALREADY_PUBLISHING, "error")
    else:
        plan, refused = _plan(build, target, request.form)
        if plan is None:
            flash(refused, "error")
        else:
            services().deployments.start(source.id, plan, target)
    return _back(slug)


@blueprint.post("/s/<slug>/hand-off/publish/stop")
def publish_stop(slug: str) -> BaseResponse:
    """Stop a publishing; what is sent stays, and the next one goes on from there."""
    services().deployments.stop(source_or_404(slug).id)
    return _back(slug)


def _back(slug: str) -> BaseResponse:
    """Return to the page, with the fields of its form as they were."""
    fields = dict(parse_qsl(request.form.get("back", ""), keep_blank_values=True))
    fields_sent = {name: fields[name] for name in _FIELDS if name in fields}
    return redirect(with_query(url_for("handoff.package", slug=slug), urlencode(fields_sent)), code=303)


@blueprint.get("/s/<slug>/hand-off/publish/state")
def publish_state(slug: str) -> Response:
    """Say how far a publishing is."""
    known = services().deployments.newest(source_or_404(slug).id)
    return jsonify(
        {"over": True} if known is None else {"over": known.over, "done": known.done, "total": known.total}
    )


def _plan(build: SourceBuild, target: str, values: MultiDict[str, str]) -> tuple[DeployPlan | None, str]:
    try:
        store = open_storage(services().settings, target, values.get("endpoint", "").strip())
        plan = plan_deploy(build.out, store, delete="delete" in values, overwrite="overwrite" in values)
    except YoungPrismError as error:
        return None, str(error)
    return plan, ""


def _packages(build: SourceBuild) -> tuple[Package | None, Package | None, str]:
    """Return the package of all and that of what changed, or why there is none."""
    try:
        known = last_packed(build.out)
        return (
            Package.from_output(build.out),
            None if known is None else Package.from_output(build.out, known),
            "",
        )
    except YoungPrismError as error:
        return None, None, str(error)
