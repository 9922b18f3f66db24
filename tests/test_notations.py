"""Modes, access lists and capabilities: every notation there and back, and the kernel's own judgement."""

import itertools
import os
from collections.abc import Callable
from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fiat.core.errors import FiatError, InvalidAccessList, NotationError
from fiat.core.model import accesslist, capabilities, listbytes, mode, modechange
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from fiat.core.rules.inheritance import inherited_modes
from fiat.core.text import visible
from fiat.core.words.entries import parse_list
from support.filesystems import fresh
from support.generators import lists

modes = st.integers(0, 0o7777)
classes = st.text("ugoa", max_size=4)
letters = st.text("rwxXst", max_size=6)


def applied(word: str, before: int, directory: bool = False, umask: int = 0o022) -> str:
    return mode.octal(modechange.parse_change(word).apply(before, directory=directory, umask=umask))


def test_every_mode_in_letters_and_octal_and_back() -> None:
    for bits in range(0o10000):
        assert mode.parse_letters(mode.letters(bits)) == bits
        assert modechange.parse_change(mode.octal(bits)).apply(0, directory=True) == bits
    assert mode.letters(0o7654) == "rwSr-sr-T"


@pytest.mark.parametrize(
    ("word", "before", "directory", "after"),
    [
        # The examples of POSIX.1-2017, XCU, and what its grammar says of the rest
        ("a+=", 0o640, False, "0000"),
        ("go+-w", 0o666, False, "0644"),
        ("g=o-w", 0o607, False, "0657"),
        ("g-r+w", 0o640, False, "0620"),
        ("uo=g", 0o070, False, "0777"),
        ("u+x,go=u", 0o600, False, "0777"),
        ("+w", 0o444, False, "0644"),  # the umask keeps group and other
        ("-w", 0o666, False, "0466"),
        ("=rw", 0o777, False, "0644"),
        ("a=rw", 0o4777, False, "0666"),
        ("+X", 0o644, False, "0644"),
        ("+X", 0o744, False, "0755"),
        ("+X", 0o644, True, "0755"),
        ("u-x,a+X", 0o700, False, "0711"),  # X looks at the mode before the change
        ("ug+s", 0o755, False, "6755"),
        ("o+s", 0o755, False, "0755"),
        ("+t", 0o777, True, "1777"),
        ("u=rwx", 0o4755, False, "0755"),
        ("g=rx", 0o2775, True, "2755"),  # a directory's special bits stay …
        ("g=rxs", 0o2775, True, "2755"),
        ("g-s", 0o2775, True, "0775"),
        ("750", 0o2775, True, "2750"),
        ("0750", 0o2775, True, "0750"),
        ("750", 0o4755, False, "0750"),
    ],
)
def test_clauses_as_posix_says(word: str, before: int, directory: bool, after: str) -> None:
    assert applied(word, before, directory) == after


@given(modes, st.booleans(), modes, classes, letters, st.sampled_from("+-="))
def test_laws_of_clauses(before: int, directory: bool, umask: int, who: str, what: str, operator: str) -> None:
    def result(word: str, on: int = before) -> int:
        return modechange.parse_change(word).apply(on, directory=directory, umask=umask)

    once = result(f"{who}{operator}{what}")
    if "X" not in what:
        assert result(f"{who}{operator}{what}", once) == once
    assert result(f"a{operator}{what}") == result(f"ugo{operator}{what}") or "t" in what or operator == "="
    if operator == "+":
        assert once | before == once
    if operator == "-":
        assert once & before == once
    if not who:
        assert (once ^ before) & umask & 0o777 & (once if operator != "-" else 0o777) == 0
    assert once in range(0o10000)


@pytest.mark.parametrize(
    ("word", "wrong"),
    [
        ("888", "888"),
        ("07777", "07777"),
        ("u+q", "'q'"),
        ("k+x", "'k'"),
        ("u", "operator"),
        ("g+x,,o=", "empty"),
        ("", ""),
    ],
)
def test_a_bad_mode_is_named(word: str, wrong: str) -> None:
    with pytest.raises(NotationError) as caught:
        modechange.parse_change(word)
    assert wrong in str(caught.value)


# --- access lists ------------------------------------------------------------

ids = st.integers(0, accesslist.NO_ID)
entries = st.one_of(
    st.builds(Entry, st.sampled_from([Tag.OWNER, Tag.OWNING_GROUP, Tag.MASK, Tag.OTHER]), st.integers(0, 7), st.none()),
    st.builds(Entry, st.sampled_from([Tag.NAMED_USER, Tag.NAMED_GROUP]), st.integers(0, 7), ids),
)


@given(lists())
def test_lists_survive_bytes_and_text(acl: AccessList) -> None:
    assert listbytes.unpack(listbytes.pack(acl)) == acl
    ordered = AccessList(accesslist.ordered(acl.entries))
    for separator in ("\n", ",", "  # why\n"):
        assert parse_list(separator.join(acl.texts()), int, int) == ordered


@given(st.binary(max_size=60), st.sampled_from([listbytes.unpack, capabilities.unpack]))
def test_any_bytes_decode_or_are_refused(value: bytes, unpack: Callable[[bytes], object]) -> None:
    with suppress(FiatError):
        assert unpack(value)


@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_the_kernel_takes_what_is_valid_and_nothing_else(kind: str) -> None:
    with fresh(kind) as top:
        path = os.path.join(top, "file")
        os.close(os.open(path, os.O_CREAT))

        @given(st.one_of(lists().map(lambda acl: list(acl.entries)), st.lists(entries, max_size=7)))
        def judge(given_entries: list[Entry]) -> None:
            raw = listbytes.pack(AccessList(tuple(given_entries)))
            try:
                valid: AccessList | None = accesslist.check(given_entries)
            except InvalidAccessList:
                valid = None
            try:
                os.setxattr(path, ACCESS_XATTR, raw)
                taken = bool(given_entries)  # no entries at all means: remove the list
            except OSError:
                taken = False
            assert taken == (valid is not None)
            if valid is not None:
                assert os.stat(path).st_mode & 0o777 == valid.mode()
                if not valid.is_mode_only():
                    assert listbytes.unpack(os.getxattr(path, ACCESS_XATTR)) == valid

        judge()


@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_what_is_inherited_is_what_was_foretold(kind: str) -> None:
    with fresh(kind) as top:
        number = itertools.count()

        @given(lists(), st.booleans(), st.integers(0, 0o777))
        def judge(default: AccessList, setgid: bool, umask: int) -> None:
            parent = os.path.join(top, str(next(number)))
            os.mkdir(parent)
            os.chmod(parent, 0o2755 if setgid else 0o755)
            os.setxattr(parent, DEFAULT_XATTR, listbytes.pack(default))
            before = os.umask(umask)
            try:
                os.close(os.open(f"{parent}/file", os.O_CREAT, 0o666))
                os.mkdir(f"{parent}/directory", 0o777)
            finally:
                os.umask(before)
            made = tuple(os.stat(f"{parent}/{name}").st_mode & 0o7777 for name in ("file", "directory"))
            assert made == inherited_modes(default, os.stat(parent).st_mode)
            assert listbytes.unpack(os.getxattr(f"{parent}/directory", DEFAULT_XATTR)) == default

        judge()


@given(
    st.builds(
        FileCapabilities, st.just(2), st.integers(0, 2**64 - 1), st.integers(0, 2**64 - 1), st.booleans(), st.none()
    )
    | st.builds(
        FileCapabilities, st.just(1), st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1), st.booleans(), st.none()
    )
    | st.builds(
        FileCapabilities, st.just(3), st.integers(0, 2**64 - 1), st.just(0), st.booleans(), st.integers(0, 2**32 - 1)
    )
)
def test_capabilities_survive_bytes_and_names(value: FileCapabilities) -> None:
    assert capabilities.unpack(capabilities.pack(value)) == value
    assert capabilities.mask_of(capabilities.names(value.permitted)) == value.permitted


@given(st.text(), st.text())
def test_visible_is_printable_and_tells_texts_apart(one: str, other: str) -> None:
    assert visible(one).isprintable()
    assert (visible(one) == visible(other)) == (one == other)
