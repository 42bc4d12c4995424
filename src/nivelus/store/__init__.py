"""What is kept: tables, their migrations, the history, and the vault of sound files."""
