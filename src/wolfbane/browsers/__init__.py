"""Browsers behind one WebDriver endpoint: found, started, spoken to, watched."""
