"""What an operator does on the service's own machine: start it, look after its records and its state."""
