"""More machines: what travels to them, what runs on each of them, and what comes back."""
