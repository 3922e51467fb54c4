"""Cards that come, are listed, stand on the board, are offloaded and go."""
