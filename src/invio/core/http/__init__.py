"""What HTTP says: a request's head and what is known of a file in, a reply as data out (RFC 9110 and its neighbours).

- `request_head`, `cookies`, `forwarded` (what a proxy tells of a client): what is asked.
- `preconditions` (RFC 9110 §13), `ranges` (§14), `codings` (§8.4), `replies` (the plan), `multipart`: what is answered.
- `dates`, `digests` (RFC 9530), `caching` (RFC 9111), `cors`: single fields.
- `media_types`, `sniffing`, `names`: what a content is, and what it is called.
"""
