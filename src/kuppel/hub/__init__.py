"""The server: takes results, judges them, shows them."""
