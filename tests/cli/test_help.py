"""The help of every command: a line of purpose, options in groups, and an example that can be given."""

from __future__ import annotations

from collections.abc import Iterator

import click
import pytest
from click.testing import CliRunner

from tests.docs.test_examples import check_command
from young_prism.cli.main import main
from young_prism.cli.verb import Verb

HEADINGS = {"Input", "Output", "Recipe", "Markup", "Performance", "Report", "Server"}


def commands() -> Iterator[tuple[str, ...]]:
    context = click.Context(main)
    for name in main.list_commands(context):
        command = main.get_command(context, name)
        if isinstance(command, click.Group):
            yield from ((name, verb) for verb in command.list_commands(context))
        else:
            yield (name,)


@pytest.mark.parametrize("words", list(commands()), ids=" ".join)
def test_help_groups_every_option_and_ends_with_an_example(words: tuple[str, ...]) -> None:
    context = click.Context(main)
    command: click.Command | None = main.get_command(context, words[0])
    if isinstance(command, click.Group):
        command = command.get_command(context, words[1])
    assert isinstance(command, Verb)
    options = [
        parameter
        for parameter in command.params
        if isinstance(parameter, click.Option) and not parameter.hidden
    ]
    grouped = dict(command.option_groups(click.Context(command)))
    assert set(grouped) <= HEADINGS and sum(map(len, grouped.values())) == len(options)
    assert all(option.help for option in options if option.name not in ("form", "server", "port", "loading"))
    printed = CliRunner().invoke(main, [*words, "--help"]).output
    assert printed.rstrip().endswith(f"Example:\n  {command.example}")
    check_command(command.example.partition(" > ")[0])


def test_the_list_of_commands_has_a_purpose_for_each_that_is_not_cut() -> None:
    printed = CliRunner().invoke(main, ["--help"]).output
    listed = printed.partition("Commands:\n")[2].partition("\n\n")[0].splitlines()
    assert len(listed) == len(main.list_commands(click.Context(main)))
    assert all(line.rstrip().endswith(".") and "..." not in line for line in listed)
