"""The HTTP service: routers by noun, sign-in, problem responses, event stream, the console."""
