"""One module per kind of job: a frozen request, a result, and a plain function between them; no ledger here."""
