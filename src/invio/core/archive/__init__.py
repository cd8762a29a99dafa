"""Archives as they are laid out, without the contents of what is in them.

- `plan`: an archive as parts, and a range of it. `zip_layout`, `tar_layout`: the bytes around the contents.
- `entry_names`: what files are called in an archive.
"""
