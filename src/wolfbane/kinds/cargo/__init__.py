"""Kind ``cargo``: tests of Rust crates."""
