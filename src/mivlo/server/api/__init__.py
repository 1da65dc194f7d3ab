"""HTTP routers: parse, call a use case, answer; no SQL, no NumPy."""
