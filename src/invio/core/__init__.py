"""Values in, values out: what Invio decides, without files, a clock, a database or a network.

- `http`: what HTTP says of requests and replies. `links`: sealed links. `rules`: who may have what.
  `archive`: ZIP and TAR, as they are laid out.
- `addresses`, `files` (what is known of a file, and who asks), `reasons` (why something is refused), `progress`
  (what of a file has arrived), `readable` (what a slice is read from), `versions`, `networks` (what counts as one
  place), `sign_ins`, `throttle`, `moments`,
  `shown` (texts of strangers, as they are shown), `toml` (files that people write, and the lines of their errors),
  `meter` and `figures` (how fast, how long still, and in which words), `exclusions` (what a folder leaves out),
  `renditions`, `memory`, `errors`, `version`.
- `receipts` and `webhooks`: what is told to outsiders; `signing` and `webhook_signatures` prove it.
"""
