"""The class of all commands: `--help` lists options in groups and ends with an example."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import click

_GROUPS = {
    "Input": """source include exclude only details_file pages layout_file viewports samples sample headers manifest
        root roots""",
    "Output": """out in_place keep_folder keep keep_renditions folder overwrite write undo remove
        remove_orphans changed since delete public_read cache_control endpoint endpoints reset record
        prune_keep prune_days data verify""",
    "Recipe": """recipe_file start list_starts widths longest_sides percents box formats fmt qualities target max_bytes
        lossless poster names width rungs step smallest against per_image""",
    "Markup": """form facet alt decorative caption hero sizes auto_sizes loading base_url prefix originals selector server
        mode new_sizes structural links styles keep_differences""",
    "Performance": "jobs memory_mb cache_folder cache_mb cluster",
    "Report": """as_json report_file html_file sort log_file wants_log log_format limit is_verbose junit_file failures_list
        patch_file script_file check dry_run fail_on save_choices project_file""",
    "Server": """port listen hosts origins public per_minute trusted_proxy private_webhooks scopes secret refuse bucket
        max_file_mb max_files max_zip_mb max_megapixels""",
}
"""Heading -> names of parameters. An option of any command belongs to one group."""

_HEADINGS = {name: heading for heading, names in _GROUPS.items() for name in names.split()}


class Verb(click.Command):
    """A command whose help groups its options and ends with an example of use."""

    def __init__(self, *arguments: Any, example: str, **settings: Any) -> None:
        super().__init__(*arguments, **settings)
        self.example = example

    def option_groups(self, context: click.Context) -> Iterator[tuple[str, list[tuple[str, str]]]]:
        """Yield each heading with the names and the help of its options; `--help` itself has none.

        Raises `KeyError` for an option without a group.
        """
        options = [
            param
            for param in self.get_params(context)
            if isinstance(param, click.Option) and not param.hidden and "--help" not in param.opts
        ]
        for heading in _GROUPS:
            records = [
                record
                for option in options
                if _HEADINGS[option.name or ""] == heading and (record := option.get_help_record(context))
            ]
            if records:
                yield heading, records

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options under their headings."""
        for heading, records in self.option_groups(ctx):
            with formatter.section(heading):
                formatter.write_dl(records)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """Write the example, which is not wrapped: it can be copied."""
        formatter.write(f"\nExample:\n  {self.example}\n")
