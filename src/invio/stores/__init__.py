"""Where files come from: directories, managed stores, tables, remote stores."""
