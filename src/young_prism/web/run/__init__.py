"""The stop Run: the plan, live progress, the report, and the history of runs."""

from young_prism.web.run import history_pages, in_place_pages, live_pages, plan_pages, report_pages
from young_prism.web.run.blueprint import blueprint

__all__ = ["blueprint", "history_pages", "in_place_pages", "live_pages", "plan_pages", "report_pages"]
