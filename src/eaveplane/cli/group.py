"""The command that all others belong to."""

from __future__ import annotations

import click


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="eaveplane")
def main() -> None:
    """Weave focus stacks of landscapes into pictures that are sharp throughout."""
