"""What a file looks like to a request.

- `negotiation`: media type, coding, tag and digest of what is sent.
- `presentation`: what an address asks for by its query.
- `codings`: compressing what is made. `digests`: SHA-256 of contents, kept.
- `made_once`: one run of a producer for all who ask. `renditions`: of images, kept.
"""
