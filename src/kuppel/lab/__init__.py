"""The made-up world: stand-in services, the demo's scenario, and its history."""
