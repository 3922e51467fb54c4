"""What there is one of: the ledger, the queue, devices, settings and the use cases over them."""
