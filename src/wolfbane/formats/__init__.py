"""Open formats: readers and writers that do no input or output of their own."""
