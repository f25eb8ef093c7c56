"""Cases, and the conversation about one, as a person reads them."""
