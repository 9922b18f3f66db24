"""``fiat decode``: every notation it prints can be given back to it, and means the same."""

from hypothesis import given
from hypothesis import strategies as st

from fiat.core.model import accesslist, listbytes, mode, umask
from fiat.core.model.accesslist import AccessList
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.words import notation
from fiat.core.words.notation import ChangeReading, ListReading, ModeReading, UmaskReading
from support.generators import lists
from support.program import fiat, machine, sample

NOBODY = Accounts([User("keeper", 7101, 7201)], [Group("watch", 7201)], "the test")


def only_mode(word: str) -> int:
    for reading in notation.read(word, NOBODY):
        if isinstance(reading, ModeReading):
            return reading.mode
        if isinstance(reading, ChangeReading):
            assert reading.file == reading.directory
            return reading.file
    raise AssertionError(word)


def test_a_mode_survives_every_notation() -> None:
    for bits in range(0o10000):
        for word in (mode.octal(bits), mode.letters(bits), "d" + mode.letters(bits) + "+", mode.clauses(bits)):
            assert only_mode(word) == bits


def test_a_umask_survives_both_notations() -> None:
    for mask in range(0o1000):
        assert umask.parse(umask.clauses(mask)) == umask.parse(mode.octal(mask)) == mask
        left = umask.leaves(mask)
        assert (left.files, left.directories) == (0o666 & ~mask, 0o777 & ~mask)


@given(lists())
def test_a_list_survives_text_and_bytes(acl: AccessList) -> None:
    for word in notation.in_bytes(listbytes.pack(acl)).values():
        (reading,) = notation.read(word, NOBODY)
        assert isinstance(reading, ListReading)
        assert reading.acl == acl
    (reading,) = notation.read(",".join(acl.texts()), NOBODY)
    assert isinstance(reading, ListReading)
    assert reading.acl.entries == accesslist.ordered(acl.entries)


@given(st.text(max_size=14) | st.text("rwxsStT-+=,:ugo01234567", max_size=14))
def test_any_word_is_read_or_refused_in_one_line(word: str) -> None:
    done = fiat_error(word)
    assert done is None or ("\n" not in done and done.isprintable())


def fiat_error(word: str) -> str | None:
    from fiat.core.errors import FiatError

    try:
        assert notation.read(word, NOBODY)
    except FiatError as error:
        return str(error)
    return None


def test_the_ambiguous_is_answered_both_ways() -> None:
    assert [type(reading) for reading in notation.read("022", NOBODY)] == [UmaskReading, ModeReading]
    assert [type(reading) for reading in notation.read("640", NOBODY)] == [ModeReading]
    text = fiat("decode", "027").stdout
    assert "could be a umask" in text
    assert "could be a mode" in text


def test_text_and_json_say_the_same() -> None:
    (result,) = machine("decode", "2754")["results"]
    (reading,) = result["readings"]
    text = fiat("decode", "2754").stdout
    for value in (reading["mode"], reading["letters"], reading["clauses"], "4 + 2 + 1 = 7", *reading["special"]):
        assert value in text
    (result,) = machine("decode", "user:keeper:rw", "--from", "skerry")["results"]
    assert result["readings"][0] == {
        "notation": "entry",
        "meaning": "entry",
        "entry": "user:7101:rw-",
        "named": "user:keeper:rw-",
    }
    assert "0644  rw-r--r--" in sample("decode", "--umask", "g-w").stdout
    assert "net_bind_service" in fiat("decode", "0x0100000200040000000000000000000000000000").stdout
    assert "2664  rw-rwSr--" in fiat("decode", "+X", "--on", "2664").stdout
    assert "0640  rw-r-----" in fiat("decode", "-rw-r-----").stdout


def test_what_no_notation_fits_is_named() -> None:
    for word, says in (
        ("rwxr-qr-x", "'q' cannot stand at place 6"),
        ("qrwxr-xr-x", "'q', the first of ten letters"),
        ("hello", "no notation fits 'hello'"),
        ("user:keepr:r", "near is 'keeper'"),
        ("u::rw,g::r", "one entry for the other"),
        ("0x02000000", "none is given"),
        ("0x0200000001000600", "no access list"),
        ("u=rq", "'q' is no permission"),
    ):
        done = sample("decode", word)
        assert (done.returncode, done.stdout) == (2, ""), word
        assert says in done.stderr
        assert done.stderr.count("\n") == 1
    assert sample("decode", "640", "hello").returncode == 3
    assert "over 777" in sample("decode", "--umask", "1022").stderr
