"""Browsers behind one WebDriver endpoint: finding, starting, controlling and observing them."""
