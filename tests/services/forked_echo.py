"""A module to be forked: says each word it hears back, and what it finds around itself."""

import json
import os
import sys
from pathlib import Path


def main() -> None:
    for line in sys.stdin:
        found = {
            "word": json.loads(line),
            "folder": str(Path.cwd()),
            "environment": os.environ.get("DIADOCHE_TEST", ""),
            "name": Path("/proc/self/comm").read_text(encoding="ascii").strip(),
        }
        sys.stdout.write(json.dumps(found) + "\n")
        sys.stdout.flush()
