"""The demo scenario: the Mto river gauging service, as data."""
