"""What goes out into the dark: in come a shot's plan, the site's dangers and a test shot; out come the card's
lines and the timer, the pack list, when to leave, and the one next change."""
