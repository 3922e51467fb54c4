"""What a card is: its layout, its clips, and whether it is complete."""
