"""The subject that remarks are made on."""

from fiat.core.model.accesslist import Entry
from fiat.core.model.accounts import Accounts
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object
from fiat.core.words import naming


class Subject:
    """The object that remarks are made on, with what is asked of it again and again."""

    def __init__(self, object_: Object, accounts: Accounts) -> None:
        self.object = object_
        self.accounts = accounts
        self.posture = object_.posture
        self.mode = object_.posture.mode
        self.kind = object_.posture.kind
        self.directory = self.kind is Kind.DIRECTORY

    @property
    def owner(self) -> str:
        """What the owner is called."""
        return naming.user(self.posture.uid, self.accounts)

    @property
    def group(self) -> str:
        """What the owning group is called."""
        return naming.group(self.posture.gid, self.accounts)

    def entry(self, entry: Entry) -> str:
        """``entry`` in text form, with names."""
        return naming.entry(entry, self.accounts)

    def members(self, gid: int) -> int:
        """How many users are in the group ``gid``."""
        return self.accounts.member_count(gid)

    def mounted_with(self, option: str) -> bool:
        """Whether the mount, or the file system under it, has ``option``."""
        mount = self.object.mount
        return mount is not None and (option in mount.options or (option == "ro" and mount.read_only))
