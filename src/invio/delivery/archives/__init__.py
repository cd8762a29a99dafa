"""Bundles: a selection of files as one archive, planned once and sent from anywhere.

- `bundles`: making and finding them. `selection`: which files are in one. `builder`: from a selection to a `plan`.
- `deflating`, `deflate_cache`, `background_deflate`: deflated contents. `syncing`: those on their way to the disk.
- `checksums`, `crc_scan`: CRC-32 of contents. `crc_ahead`: those of very many small files, by a process beside the
  planner. `known_contents`: what the records know.
- `planning_pools`: which threads plan one, so that a slow system keeps no other archives waiting. `planning_turns`:
  whose turn it is, so that nobody takes them all.
- `spools`: contents made on demand, kept for as long as an archive needs them.
"""
