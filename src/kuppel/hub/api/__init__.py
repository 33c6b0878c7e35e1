"""Routes and their shapes: parse, call one function of the engine or the store, shape the answer."""
