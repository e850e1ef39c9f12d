"""Notices on pages: what an action did, and why a page has nothing to show."""

ALREADY_PUBLISHING = "Publishing is already in progress."
CHANGED_MEANWHILE = (
    "Someone else changed this image in the meantime. Your text is below; save it again to replace theirs."
)
CHECK_RUNNING = "The pages are already being checked."
CONVERSION_DELETED = "The images and their files were deleted."
IN_PLACE_NOT_WATCHED = "A source that is built in place cannot be watched. Choose another layout."
NOTHING_CHOSEN = "Nothing was selected, so nothing was written."
NOTHING_TO_UNDO = "There is nothing to undo."
NO_DOCUMENTATION = "“/docs” is empty, because the documentation was not built. Build it with make docs."
NO_FILE_CHOSEN = "Choose a file first."
NO_IMAGE_CHOSEN = "Choose an image first."
NO_LOSSY_FORMAT = "The recipe has no lossy format for this kind, so it has no target."
NO_ORIGINAL_SELECTED = "Select an original first."
RECIPE_UPDATED = "Recipe updated. The next run uses it."
REPLACED = "Replaced. New renditions are being created under the same addresses."
SAVED = "Saved."
SAVED_AND_REBUILDING = "Saved. New renditions are being created; the original is unchanged."
SAVED_FOR_NEXT_RUN = "Saved. The next run creates new renditions; the original is unchanged."
SCORE_RANGE = "Enter a score from 10 to 98."
SQUEEZE_SCORE_RANGE = "Enter a score from 10 to 100."
TEXT_SAVED = "Saved. Every snippet of this original now uses it."
UNDONE = "Undone."
WEBHOOK_REMOVED = "Webhook removed."
WITHDRAWN = "Withdrawn: pages no longer show this image. The original is kept."


def cannot_open_in_proof(*, path: str, problem: str) -> str:
    return f"“{path}” cannot be opened in Proof. {problem}"


def desk_rights_saved(source: str) -> str:
    return f"Desk permissions of “{source}” saved."


def file_gone(path: str) -> str:
    return f"There is no file “{path}” in this source. Rescan the source to see what changed."


def files_uploaded(*, uploaded: str, known: int) -> str:
    return f"{uploaded} uploaded; {known} already present."


def images_uploaded(images: str) -> str:
    return f"{images} uploaded."


def no_report_yet(*, run: int, source: str) -> str:
    return f"Run {run} of “{source}” has no report yet."


def no_such_file(name: str) -> str:
    return f"There is no file “{name}”; it may have been deleted."


def no_such_original(path: str) -> str:
    return f"The source has no original “{path}”. It may have been renamed; rescan the source."


def no_such_run(*, run: int, source: str) -> str:
    return f"“{source}” has no run {run}."


def no_such_upload(upload: str) -> str:
    return f"There is no upload “{upload}”. Search for it on Desk."


def not_a_candidate(name: str) -> str:
    return f"“{name}” is not a candidate."


def not_restored(*, path: str, reason: str) -> str:
    return f"Not restored: {path}: {reason}."


def not_utf_8(name: str) -> str:
    return f"{name}: The file is not UTF-8 text. Save it as a TOML file."


def nothing_to_compare(*, path: str, kind: str) -> str:
    return f"There is nothing to compare for “{path}”: it is {kind}."


def orphans_deleted(*, files: str, size: str, remark: str) -> str:
    return f"{files} deleted, {size}.{remark}"


def pages_rewritten(*, files: str, backup: object) -> str:
    return f"{files} rewritten. The old files are kept in {backup}."


def recipe_applied(name: str) -> str:
    return f"“{name}” is now the recipe of this source. The next run uses it."


def recipe_changed(name: str) -> str:
    return f"Recipe “{name}” changed."


def recipe_saved(name: str, hint: str = "") -> str:
    return f"Recipe “{name}” saved.{hint}"


def rewrite_undone(files: str) -> str:
    return f"Rewrite undone: {files} restored."


def runs_deleted(runs: str) -> str:
    return f"{runs} deleted from the history. Renditions are unchanged."


def source_has_run(source: str) -> str:
    return f"“{source}” has a running run. Stop the run first."


def source_removed(*, source: str, folder: str) -> str:
    return f"“{source}” removed from the list. Its originals in {folder} and its renditions are kept."


def token_revoked(name: str) -> str:
    return f"Token “{name}” revoked. Create a new one if that was a mistake."


def webhook_added(url: str) -> str:
    return f"Webhook added: {url} is called whenever an upload is done."


def scope_unchanged(*, number: int, is_excluded: bool) -> str:
    subject = "These originals are" if number > 1 else "This original is"
    return f"{subject} already {'excluded' if is_excluded else 'included'}."


def scope_changed(*, originals: str, is_excluded: bool) -> str:
    return f"{originals} {'excluded' if is_excluded else 'included'}."


def scope_undone(*, originals: str, is_excluded: bool) -> str:
    return f"Undone: {originals} {'excluded' if is_excluded else 'included'} again."


def kind_changed(*, originals: str, kind: str | None) -> str:
    return f"{originals} {f'treated as a {kind}' if kind else 'classified automatically'}."
