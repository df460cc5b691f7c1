"""The view of the part: what is drawn, from where, and which hand moves it."""
