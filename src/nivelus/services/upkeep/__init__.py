"""Looking over a data folder and setting it right."""
