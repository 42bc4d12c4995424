"""What is drawn on a track or ridden by hand: ride, trim, clip curves and passes."""
