"""The main process's side of workers: messages, processes, and the pool that starts them."""
