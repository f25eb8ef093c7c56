"""Commands about a case: what is known, what is likely, what to do, what was done."""
