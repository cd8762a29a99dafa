"""The Python client library of Invio."""

from invio.client.client import Client
from invio.client.errors import ClientError, FileChanged, Refused, ServiceUnreachable
from invio.client.fetching import Fetched, Progress
from invio.client.patience import Patience

__all__ = ["Client", "ClientError", "Fetched", "FileChanged", "Patience", "Progress", "Refused", "ServiceUnreachable"]
