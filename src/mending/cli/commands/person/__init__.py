"""Commands about the program itself: settings, help, completion."""
