"""The command line: the same core without the interface.

Exit code 0 when all went well, 1 for bad input, 2 for bad usage. With ``--json`` standard output holds one JSON object
and nothing else. What is heavy is imported where it is used, so that every command starts at once.
"""

from __future__ import annotations

import sys
from itertools import pairwise

from nivelus.cli import level, measure, program  # noqa: F401  (each puts its commands into the program)
from nivelus.cli.options import app, why
from nivelus.cli.printing import print_tamely
from nivelus.cli.ruled import AS_THE_RULE
from nivelus.core.errors import NivelusError


def main() -> None:
    """Run the command line; bad input ends with a sentence, never with a traceback."""
    print_tamely()
    try:
        app(args=_with_ride_strength(sys.argv[1:]), prog_name="nivelus")
    except NivelusError as error:
        print(error.sentence, file=sys.stderr)
        sys.exit(1)
    except OSError as error:
        print(f"{error.filename or 'A file'}: {why(error)}", file=sys.stderr)
        sys.exit(1)


def _with_ride_strength(arguments: list[str]) -> list[str]:
    """``--ride`` may stand alone, which options with a value may not: where it is left out it is that of the rule."""
    out = []
    for argument, following in pairwise([*arguments, ""]):
        alone = argument == "--ride" and not following.replace(".", "", 1).isdigit()
        out.append(f"--ride={AS_THE_RULE}" if alone else argument)
    return out
