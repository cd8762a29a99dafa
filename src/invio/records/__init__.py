"""What is kept in SQLite: recipients, links, transfers, quotas, versions; and the journal that writes them."""
