"""The service: its API, sessions, settings, running and mounting."""
