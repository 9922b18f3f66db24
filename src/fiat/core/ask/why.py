"""What a verdict means, in words: which rule decided, and the trap it may hide.

Sources of the traps: acl(5), "ACCESS CHECK ALGORITHM"; path_resolution(7);
inode(7); execve(2), "Interpreter scripts"; proc_sys_fs(5).
"""

from collections.abc import Iterator

from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import EXECUTE, READ, permission_letters
from fiat.core.model.posture import LIMITS, Object
from fiat.core.model.principals import Principal
from fiat.core.rules import decision as rules
from fiat.core.rules.checks import Step, Verdict
from fiat.core.rules.effective import deciding_list, effective, passes_over_list
from fiat.core.text import joined, visible
from fiat.core.words import naming

_MAY_ADD = ": it can only be added to"

RULE_WORDS = {
    "symlink": "followed",
    "protected-symlinks": "fs.protected_symlinks: in a sticky directory open to all only a link's owner may follow it",
    "protected-regular": "fs.protected_regular: in a sticky directory a file is opened to be created only by its owner",
    "protected-fifos": "fs.protected_fifos: in a sticky directory a pipe is opened to be created only by its owner",
    "nosymfollow": "the mount has nosymfollow",
    "nodev": "the mount has nodev",
    "noexec": "the mount has noexec",
    "read-only": "it is mounted read-only",
    **{name: f"the {name} flag{_MAY_ADD if flag.allows_adding else ''}" for name, flag in LIMITS.items()},
    "sticky": "the sticky bit: only the owner of what is named, of the directory, or root",
    "owner-only": "only the owner, or CAP_FOWNER",
    "superuser-only": "only CAP_CHOWN",
    "owner-in-other-group": "only the owner, to a group that the owner is in, or CAP_CHOWN",
    "clears-special": "setuid or setgid goes with it, which only the owner, or CAP_FOWNER, may do",
    "missing": "there is nothing of this name",
    "not-a-directory": "this is no directory",
    "not-a-program": "only a regular file can be run",
    "too-many-links": "more than 40 symlinks in a row",
    "too-many-interpreters": "more than 5 scripts in a row are each other's interpreter",
    "interpreter-missing": "the script's interpreter cannot be found",
    "mount-point": "something is mounted there",
    "root-directory": "it is the root directory",
    "not-executable": "there is nothing in it that the kernel can run",
    "loader-missing": "the program's loader cannot be found",
    "not-a-loader": "the program's loader is no program",
    "a-directory": "this is a directory",
    "unmapped": "its owner or its group has no number on this ID-mapped mount: nobody writes to it or changes it",
    "maker-unmapped": "the ID-mapped mount has no number on disk for what they make",
    "lower-layer": "it comes from a lower layer, and this overlay cannot move such directories (no redirect_dir)",
    "layers": "the layers under the overlay refuse it, for they are asked with the rights of who mounted it",
    "fuse": "the FUSE mount lets in nobody but who made it (no allow_other), not even root",
    "beyond-bounds": "it starts with capabilities that this process may not have: its bounding set lacks them",
}
"""What decided, where no entry did."""

_ENTRY_WORDS = {
    rules.OWNER: "the owner's entry",
    rules.NAMED_USER: "the entry for this very user",
    rules.OWNING_GROUP: "the owning group's entry",
    rules.NAMED_GROUP: "the entry for a group",
    rules.OTHER: "the entry for other",
}


def rule_words(step: Step) -> str:
    """What decided at ``step``, as the subject of a sentence."""
    if step.reason is None:
        return RULE_WORDS.get(step.rule, step.rule)
    if step.reason.capability:
        (power,) = capabilities.names(step.reason.capability)
        return f"the superuser's power CAP_{power.upper()}"
    return _ENTRY_WORDS[step.rule]


def explain(principal: Principal, verdict: Verdict, end: Object | None, accounts: Accounts) -> list[str]:
    """The reason in sentences, the traps included; ``end`` is what the route leads to."""
    step = verdict.deciding
    at = visible(step.path)
    if verdict.allowed:
        return [f"Decided at {at}, by {rule_words(step)}."]
    if step.reason is None:
        return [f"Stopped at {at}: {rule_words(step)}.", *_flat_traps(step, accounts)]
    lines = [f"Stopped at {at}: it needs {step.needs} there, and {rule_words(step)} says no."]
    return [*lines, *_Traps(principal, step, end, accounts).all()]


def _flat_traps(step: Step, accounts: Accounts) -> Iterator[str]:
    found = step.object
    if found is None:
        return
    is_file = not found.posture.directory
    if step.rule == "sticky":
        yield f"The directory belongs to {naming.user(found.posture.uid, accounts)}; write to it is not enough here."
    elif step.rule in ("owner-only", "owner-in-other-group"):
        yield f"It belongs to {naming.user(found.posture.uid, accounts)}."
    elif step.rule in ("not-executable", "interpreter-missing") and found.program is not None and found.program.problem:
        yield f"Of {visible(found.path)}: {found.program.problem}."
    elif step.rule in LIMITS and LIMITS[step.rule].allows_adding and step.needs == "write" and is_file:
        yield "Opening it for appending alone is allowed to those who may write."


class _Traps:
    """What is easily misread where an entry refused."""

    def __init__(self, principal: Principal, step: Step, end: Object | None, accounts: Accounts) -> None:
        assert step.reason is not None
        assert step.object is not None
        self.principal = principal
        self.step = step
        self.share = step.reason.share
        self.object = step.object
        self.posture = step.object.posture
        self.want = step.want
        self.end = end
        self.accounts = accounts

    def all(self) -> Iterator[str]:
        yield from self._owner_elsewhere()
        yield from self._by_class()
        yield from self._mask()
        if self.posture.acl is not None:
            yield from self._list(self.posture.acl)
        yield from self._half_a_directory()
        yield from self._script()

    def _owner_elsewhere(self) -> Iterator[str]:
        end = self.end
        if end is None or end.path == self.object.path or self.principal.uid != end.posture.uid:
            return
        if self.posture.uid == self.principal.uid:
            return
        if self.step.needs in ("delete", "rename"):
            yield f"Owning {visible(end.path)} does not count here: names are its directory's matter."
        else:
            above = visible(self.object.path)
            yield f"Owning {visible(end.path)} does not count here: {above} belongs to someone else."

    def _by_class(self) -> Iterator[str]:
        mode = self.posture.mode
        if self.step.rule == rules.OWNER and (mode >> 3 | mode) & self.want:
            yield "Others get more: but for the owner the owner's letters alone count."
        if self.step.rule in (rules.OWNING_GROUP, rules.NAMED_GROUP):
            if mode & self.want == self.want:
                yield "Other would be allowed it: but who is in a group that matches is not asked about other."
            yield from self._spread()

    def _spread(self) -> Iterator[str]:
        """Rights that several matching entries hold together, and none alone."""
        acl = deciding_list(self.posture)
        all_of_them = 0
        for entry in acl.entries:
            gid = self.posture.gid if entry.tag is Tag.OWNING_GROUP else entry.id
            if entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP) and gid in self.principal.gids:
                if effective(entry, acl.mask) & self.want == self.want:
                    return
                all_of_them |= effective(entry, acl.mask)
        if all_of_them & self.want == self.want:
            need = permission_letters(self.want).replace("-", "")
            yield f"Several of their groups' entries hold {need} together, but one entry must hold all of it at once."

    def _mask(self) -> Iterator[str]:
        if self.share.permissions & self.want != self.want and self.share.entry.permissions & self.want == self.want:
            mask = self.posture.acl.mask if self.posture.acl else None
            yield f"The entry itself would allow it: the mask {permission_letters(mask or 0)} cuts it off."

    def _list(self, acl: AccessList) -> Iterator[str]:
        uids, gids = acl.named()
        if passes_over_list(self.posture.mode):
            if self.principal.uid in uids or gids & self.principal.gids:
                yield "The access list names them, but its mask is ---: Linux then passes over the list altogether."
        elif self.step.rule == rules.OTHER:
            named = [
                naming.group(entry.id, self.accounts)
                for entry in acl.entries
                if entry.tag is Tag.NAMED_GROUP and entry.id is not None and entry.permissions & self.want == self.want
            ]
            if named:
                yield f"The list would allow it to members of {joined(named)}, which this is not."

    def _half_a_directory(self) -> Iterator[str]:
        if not self.posture.directory:
            return
        has = self.share.permissions
        if self.want == READ and has & EXECUTE:
            yield "They may traverse it: who knows a name in it can use it, but not list the names."
        elif self.want & EXECUTE and has & READ and not has & EXECUTE:
            yield "They may list the names in it, but without traverse nothing in it can be used."

    def _script(self) -> Iterator[str]:
        if self.step.runs_for and self.step.needs == "read":
            yield "They may execute it, but it is a script: its interpreter has to read it too."
        elif self.step.runs_for:
            yield f"This is about what runs {visible(self.step.runs_for)}, its interpreter or loader."
        elif self.step.needs == "execute" and self.object.script and self.share.permissions & READ:
            yield f"They may read it: given to {visible(self.object.script)} as its argument, the script would run."
