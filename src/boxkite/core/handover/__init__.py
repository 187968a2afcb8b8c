"""After a batch: its files checked, listed, shown and sent. Nothing here is needed to make them."""
