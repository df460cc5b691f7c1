"""The window, and what frames the view: menus, ticket, log, cards, status line."""
