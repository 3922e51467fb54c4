"""Jobs that outlive the window."""
