"""The version that manifests and records name."""

from importlib.metadata import version

VERSION = version("diadoche")
