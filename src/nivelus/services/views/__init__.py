"""What is answered: plain values, as the interface shows them."""
