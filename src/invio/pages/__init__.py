"""Pages: what the service renders for people, complete without scripts.

- `rendering`: templates, the operator's own before those that ship, and the texts on them.
- `templates/`: `base.html` (one look with the console), `listing.html`, `pickup.html`, `sign_in.html`,
  `refusal.html`, `start.html`, and `style.css`, which each page carries in itself.
"""
