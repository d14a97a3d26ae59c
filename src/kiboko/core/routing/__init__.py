"""Which way a packet takes, whatever the filters say."""
