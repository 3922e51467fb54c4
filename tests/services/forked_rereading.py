"""A module to be forked: reads the file it is told of over and over again, and never answers."""

import json
import sys
from pathlib import Path


def main() -> None:
    path = Path(json.loads(sys.stdin.readline()))
    while True:
        path.read_bytes()
