"""What belongs to this machine: the folders of the application, its settings, its load."""
