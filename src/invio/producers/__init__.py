"""Files made on demand: by a query or a function, for the values of parameters, in one of several formats.

- `parameters`: paths with parameters in them; `made_files`: one declaration, with what makes its contents
- `producer`: queries, functions, and the engines of databases; `odd_dates`: what a driver cannot read
- `formats`, `csv_rows`, `json_lines`, `spreadsheets`, `values`: rows as bytes
- `spooling`: one run for all who ask; `room`: how much of the disk all of them take; `failures`: why there is none
- `imaging`, `image_workers`: renditions of images, in processes of their own
"""
