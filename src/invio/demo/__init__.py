"""The Brackwater Sound Survey: made-up data to try everything with."""
