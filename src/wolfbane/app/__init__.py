"""What commands do, without a terminal."""
