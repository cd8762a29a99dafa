"""Prints the API's OpenAPI description, which the console's types are generated from."""

import json

from invio.service.api import make_api

print(json.dumps(make_api(None).openapi(), indent=2))
