"""Long work in a queue: which job runs what, and the worker that runs them."""
