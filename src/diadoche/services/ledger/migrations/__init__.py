"""Numbered steps from one version of the ledger to the next."""
