"""What kinds share whose tests are whole files that are executed."""
