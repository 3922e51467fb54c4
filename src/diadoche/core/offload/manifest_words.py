"""Sentences that a manifest says of its copy, and that a rebuilt ledger reads there again."""

NOT_WHOLE = "This copy is not whole"
LESS_THAN_WHOLE = "Less than the whole card was asked for."
TAKEN_IN = "Taken in where it lay: listed, not copied."
