"""The core's side of workers: their messages, their processes, and the pool that starts them."""
