"""Where the sample host's files are inside the package."""

import os

_HERE = os.path.dirname(__file__)

SNAPSHOT = os.path.join(_HERE, "skerry.jsonl")
LATER = os.path.join(_HERE, "skerry-later.jsonl")
"""The same host a week later."""

PRESS = os.path.join(_HERE, "skerry-press.jsonl")
"""As the container sees it that charts are printed in: its numbers are those of people of the host."""

SNAPSHOTS = {"skerry": SNAPSHOT, "skerry-later": LATER, "skerry-press": PRESS}
"""The words for them on a command line."""

FLEETS = {"skerry-fleet": {"cliff": SNAPSHOT, "holm": SNAPSHOT, "ness": LATER, "stack": SNAPSHOT}}
"""The words for fleets: of each the snapshot of every host."""

EXPECTATIONS = {"skerry": os.path.join(_HERE, "expectations.toml")}
"""The words for files of expectations."""

ACCOUNTS = os.path.join(_HERE, "accounts")
