"""What is true of cards, clips and copies: values in, values out, no interface, no database."""
