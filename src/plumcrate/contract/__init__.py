"""The words of the wire: what the service and its clients say to each other, as Pydantic models."""
