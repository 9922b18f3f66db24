"""Where the sample host's files are inside the package."""

import os

_HERE = os.path.dirname(__file__)

SNAPSHOT = os.path.join(_HERE, "skerry.jsonl")
ACCOUNTS = os.path.join(_HERE, "accounts")
