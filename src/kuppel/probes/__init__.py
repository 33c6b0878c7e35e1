"""Active measurement: one module a kind, above an injected `Net`."""
