"""Where the ``vornet`` command begins: a plain calculator is answered before the rest of the command is loaded."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command."""
    asked = sys.argv[1:]
    names = [word for word in asked[1:] if word != "--lines"]
    if asked[:1] == ["calc"] and len(names) == 1 and not names[0].startswith("-"):
        _calculate(names[0], "--lines" in asked)
        return
    from vornet.cli import main as whole

    whole()


def _calculate(name: str, lines: bool) -> None:
    import gc
    import os

    gc.disable()  # one answer and away
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # looking for them reads every package's description
    from vornet.core.errors import InputError
    from vornet.flows.calc import command

    try:
        command.run(name, lines)
        sys.stdout.flush()
    except InputError as error:
        sys.stderr.write(f"vornet: {error}\n")
        raise SystemExit(2) from None
    except BrokenPipeError:
        sys.stderr.close()
        raise SystemExit(1) from None
