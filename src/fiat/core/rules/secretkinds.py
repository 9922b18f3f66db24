"""Kinds of secrets, by what a file begins with.

RFC 7468, RFC 5958, RFC 8017 and RFC 5915 for keys, RFC 4880 for keyrings, crypt(5), shadow(5) and RFC 2307 for hashes,
pgpass and netrc(5), wg(8), RFC 7517 and RFC 3986 for what opens a service.
"""

import base64
import binascii
import posixpath
import re
from contextlib import suppress

START = 4096
"""So many bytes of a file are looked at, unless what comes first says that a secret may follow (:func:`goes_on`)."""

LARGEST = 64 * 1024
"""Files of so many bytes and more are not looked at: no key is that long."""

PLAIN_KEY, SEALED_KEY, HASHES, STORE, CREDENTIALS, WORDS = (
    "a private key",
    "a private key behind a passphrase",
    "password hashes",
    "a key store",
    "what opens a service",
    "a password or a token",
)

DANGEROUS = frozenset({PLAIN_KEY, HASHES, CREDENTIALS})
"""Kinds that are of use to whoever reads them, and are hardly ever taken for one wrongly."""

# --- keys ---------------------------------------------------------------------------------

# Whoever wrote a file may have written it for these expressions: none goes back over what it took, and what may be of
# any length begins where nothing else of its kind does.
_SPACE = rb"(?:\\r|\\n|[\s\x00])*"
_LINE_ENDS = rb"(?:\\r)?(?:\\n|\r?\n)[ \t]*"
_ARMOURED = re.compile(
    rb"-----BEGIN ((?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?)-----"
    + _LINE_ENDS
    + rb"((?:[A-Za-z-]+: [^\r\n\\]*"
    + _LINE_ENDS
    + rb")*)"
    + _SPACE
    + rb"([A-Za-z0-9+/=]{16,})"
)
_OPENSSH = b"openssh-key-v1\0\0\0\0\x04none"
_OTHER_TEXTS = re.compile(
    rb"(?m)^PuTTY-User-Key-File-\d: \S+\r?\n(?P<seal>Encryption: (?P<cipher>\S+))"
    rb"|^---- BEGIN SSH2 (?P<ssh2>ENCRYPTED )?PRIVATE KEY ----"
    rb"|^(?P<age>AGE-SECRET-KEY-1[0-9A-Z]{50,})"
    rb"|^[ \t]*PrivateKey\s*=\s*(?P<tunnel>[A-Za-z0-9+/]{42}[AEIMQUYcgkosw048]=)"
    rb"|^Private-key-format: v1\.\d(?P<zone>)"
    rb"|^-----BEGIN OpenVPN Static key V1-----(?P<static>)"
    rb"|^== ed25519v1-secret:(?P<onion>)"
)
_BINARY_KEYS = re.compile(
    rb"\x30\x82..\x02\x01\x00\x02\x82"  # RSAPrivateKey (RFC 8017, A.1.2)
    rb"|\x30(?:\x82..|\x81.|[\x20-\x7f])\x02\x01[\x00\x01]\x30[\x05-\x20]\x06"  # OneAsymmetricKey (RFC 5958, 2)
    rb"|\x30(?:\x81.|[\x20-\x7f])\x02\x01\x01\x04[\x18-\x42]"  # ECPrivateKey (RFC 5915, 3)
    rb"|SSH PRIVATE KEY FILE FORMAT 1\.1\n\0\0",
    re.DOTALL,
)
_SEALED_BINARY = re.compile(
    rb"\x30(?:\x82..|\x81.)\x30[\x10-\x80]\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x05|SSH PRIVATE KEY FILE", re.DOTALL
)
_STORES = re.compile(
    rb"\xfe\xed\xfe\xed\0\0\0[\1\2]|\xce\xce\xce\xce\0\0\0|\x30\x82..\x02\x01\x03\x30|\x05\x02\0\0\0[\x10-\xff]",
    re.DOTALL,
)
_JSON_KEY = re.compile(rb'"kty"\s*:\s*"(?:RSA|EC|OKP)"')
_JSON_SECRET = re.compile(rb'"d"\s*:\s*"[A-Za-z0-9_-]{20,}"')
_ONE_KEY = re.compile(rb"\s*[A-Za-z0-9+/]{42}[AEIMQUYcgkosw048]=\s*")

# --- hashes -------------------------------------------------------------------------------

_HASHES = re.compile(
    rb"(?m)^[ \t]*[\w.@-]{1,64}:[!*]{0,2}(?:\$(?:1|2[abxy]?|5|6|7|y|gy|md5|sha1|argon2\w*|scrypt|apr1)\$[^:\s]{8,}"
    rb"|\{(?:SSHA|SHA|SMD5|CRYPT|PBKDF2)[-\w]*\}[A-Za-z0-9+/=$.]{12,}|[./0-9A-Za-z]{13}(?::\d*){5})"
    rb"|^[ \t]*(?:userPassword|olcRootPW|rootpw)\b:?[ \t]*(?::[ \t]*)?(?:--iscrypted[ \t]+)?"
    rb"(?:\{|\$(?:[156y]|2[aby])\$)\S{12,}"
    rb"|^[\w.-]+:\d+:(?:[0-9A-F]{32}|X{32}):[0-9A-F]{32}:"
    rb"|^[\w.@-]+:[^:\n]+:[0-9a-f]{32}\s*$"
)
_ALWAYS = ("/etc/shadow", "/etc/gshadow", "/etc/shadow-", "/etc/gshadow-")
"""These hold hashes as soon as somebody has a password."""

# --- what opens a service -----------------------------------------------------------------

_LOGIN = re.compile(
    rb"(?m)^[ \t]*(?:machine\s{1,20}\S{1,200}|default)\s{1,20}login\s{1,20}\S{1,200}\s{1,20}password\s{1,20}(\S+)"
)
_URL = re.compile(
    rb"\b[a-z][a-z0-9+.-]{1,20}://[^\s:/@\"'<>{}$]{1,64}:([^\s/@\"'<>{}$%*]{3,}|[^\s/@\"'<>{}$*]{6,})@[\w.\[-]"
)
_TOKENS = re.compile(
    rb"\b(?:A[KS]IA[0-9A-Z]{16}\b|gh[pousr]_[A-Za-z0-9]{36}|github_pat_\w{22,}|glpat-[\w-]{20}|xox[abprs]-[\w-]{10,}"
    rb"|sk_live_[A-Za-z0-9]{16,}|rk_live_[A-Za-z0-9]{16,}|AIza[\w-]{35}|SG\.[\w-]{16,}\.[\w-]{16,}|ya29\.[\w-]{20,}"
    rb"|eyJ[\w-]{10,2000}\.eyJ[\w-]{10,2000}\.[\w-]{10})"
)
_DATABASE = re.compile(rb"(?m)^(?!#)(?:\\.|[^:\n\\])+:(?:\d+|\*):(?:\\.|[^:\n\\])+:(?:\\.|[^:\n\\])+:([^\n]+)$")
_REGISTRY = re.compile(rb'"auth"\s*:\s*"([A-Za-z0-9+/]{8,}={0,2})"')
_CLUSTER = re.compile(rb"(?m)^[ \t]*(?:client-key-data|token):\s*([A-Za-z0-9+/._=-]{20,})")
_SHARED = re.compile(rb"(?m)^[ \t]*(?:secret[ \t]+\"[A-Za-z0-9+/=]{16,}\"\s*;|(?:wpa-)?psk\s*=?\s*\"?[^\s\"#]{8,63})")
_PAIRS = re.compile(rb"(?m)^(?!#)[\w.@*\"-]+(?:[ \t]+[\w.*\"-]+[ \t]+|:)[\"']?([^\s\"':]{4,})")
_PAIRS_IN = ("chap-secrets", "pap-secrets", "rsyncd.secrets", "sasl_passwd", "smbpasswd")

_ASSIGNED = re.compile(
    rb"""(?imx)(?:^|[{,])[ \t]*(?:export[ ]|set[ ]|-[ ])?["']?[\w.-]*
    (?:password|passwd|passphrase|passwort|secret|api[_-]?key|access[_-]?key|auth[_-]?token|access[_-]?token|bindpw
    |authtok|private[_-]?key)[\w-]{0,6}["']?
    [ \t]*(?:[=:]|=>)[ \t]*["']?([^\s"'#;,<>()\[\]{}$`%*\\]{6,})(?=["']?[ \t]*(?:[,;}#\r\n]|$))"""
)
_STRONG_NAMES = re.compile(
    r"(?i)(?:\.env(?:\..*)?|.*\.env|credentials(?:\..*)?|\.?my\.cnf|\.?smbcredentials|\.s3cfg|\.boto|.*\.secrets?|secrets?"
    r"(?:\..*)?|\.?debian\.cnf|wp-config\.php|.*\.nmconnection|.*\.my\.cnf|\.npmrc|\.htpasswd)"
)
"""Names of files that are there to hold what is assigned in them."""

_SETTINGS = re.compile(
    r"(?i)(?:.*\.(?:conf|cfg|cnf|ini|properties|toml|ya?ml|json|xml|rc|service|plist|settings|config|auth|inc|txt|local)|.*rc"
    r"|[^.]+|\.[^.]+)"
)
_STANDS_FOR = re.compile(
    rb"(?i)change|example|xxx|placeholder|^none$|null|^true$|^false$|your|secret$|required|password$|dummy|^test|sample|"
    rb"redacted|insert|replace|hidden|^\W+$|^pass(?:word)?\d*$|^(?:user|string|optional|default|prompt|ask)"
)
_TESTS = re.compile(r"(?i)/(?:tests?|testdata|test-data|testing|fixtures?|mocks?|__tests__|spec)(?:/|$)")
_SHOWN = re.compile(
    r"(?i)/(?:tests?|testdata|test-data|testing|fixtures?|mocks?|examples?|samples?|docs?|demos?)(?:/|$)"
)
_LIBRARIES = re.compile(r"/(?:site-packages|dist-packages|node_modules|gems|pkg/mod|registry/src|vendor/bundle)/")

_HINTS = (
    b"private key -",
    b"private key----",
    b"private key block",
    b"user-key-file",
    b"private-key-format",
    b"age-secret-key",
    b"privatekey",
    b"openvpn static",
    b"ed25519v1-secret",
    b'"kty"',
    b":$",
    b":!$",
    b":*$",
    b"{s",
    b"{c",
    b"{p",
    b"userpassword",
    b"rootpw",
    b"://",
    b"login",
    b"pass",
    b"secret",
    b"key",
    b"tok",
    b"psk",
    b'"auth"',
    b"akia",
    b"asia",
    b"gh",
    b"glpat",
    b"xox",
    b"eyj",
    b"bindpw",
    b"_live_",
    b"sg.",
    b"ya29",
)
"""Of a text without any of these, in small letters, nothing is found; that is soon seen."""


def goes_on(start: bytes) -> bool:
    """Whether the rest of a file is worth reading: certificates, attributes, comments or locked accounts come first."""
    return (
        b"-----BEGIN" in start
        or b"Bag Attributes" in start
        or start.startswith(b"#")
        or b":!" in start
        or b":*:" in start
    )


def kind_of(start: bytes, path: str) -> str | None:
    """The kind of secret in a file that begins with ``start``; None where it looks like none."""
    name = posixpath.basename(path)
    if path in _ALWAYS and b":" in start:
        return HASHES
    if start[:1] in b"\x30\x05\xfe\xceS" and (binary := _binary(start)) is not None:
        return binary
    if b"\0" in start[:512] or not start:
        return None
    small = start.lower()
    if not any(hint in small for hint in _HINTS) and not _ONE_KEY.fullmatch(start) and b":" not in small:
        return None
    return _key(start, name) or _opens(start, name)


def _binary(start: bytes) -> str | None:
    if _STORES.match(start):
        return STORE
    if _BINARY_KEYS.match(start):
        return PLAIN_KEY
    return SEALED_KEY if _SEALED_BINARY.match(start) else None


def _key(start: bytes, name: str) -> str | None:
    sealed = False
    for found in _ARMOURED.finditer(start):
        kind, headers, text = found.groups()
        if b"ENCRYPTED" in kind or b"ENCRYPTED" in headers or b"BLOCK" in kind or _is_sealed_openssh(kind, text):
            sealed = True
        else:
            return PLAIN_KEY
    for found in _OTHER_TEXTS.finditer(start):
        if found["cipher"] not in (None, b"none") or found["ssh2"]:
            sealed = True
        else:
            return PLAIN_KEY
    if _JSON_KEY.search(start) and _JSON_SECRET.search(start):
        return PLAIN_KEY
    if _ONE_KEY.fullmatch(start) and re.search(r"(?i)priv|secret|\.key$|^key|psk", name):
        return PLAIN_KEY
    if _HASHES.search(start):
        return HASHES
    return SEALED_KEY if sealed else None


def _is_sealed_openssh(kind: bytes, text: bytes) -> bool:
    """Whether a key in the form of OpenSSH names a cipher (its PROTOCOL.key)."""
    if b"OPENSSH" not in kind:
        return False
    with suppress(binascii.Error):
        held = base64.b64decode(text[: len(text) // 4 * 4][:64])
        return held.startswith(_OPENSSH[:15]) and not held.startswith(_OPENSSH)
    return False


def _opens(start: bytes, name: str) -> str | None:
    """What opens a service: of a form that hardly anything else has, or some word that says so."""
    forms = [_LOGIN, _URL, _TOKENS, _SHARED]
    if re.fullmatch(r"\.?pgpass(?:\.conf)?", name):
        forms.append(_DATABASE)
    if name in _PAIRS_IN:
        forms.append(_PAIRS)
    if b'"auths"' in start:
        forms.append(_REGISTRY)
    if b"kind: Config" in start or b"clusters:" in start:
        forms.append(_CLUSTER)
    for form in forms:
        for found in form.finditer(start):
            if not _STANDS_FOR.search(found[found.lastindex or 0]):
                return CREDENTIALS
    strong = _STRONG_NAMES.fullmatch(name) is not None
    if not strong and not _SETTINGS.fullmatch(name):
        return None
    for found in _ASSIGNED.finditer(start):
        if not _STANDS_FOR.search(found[1]) and (strong or _looks_made(found[1])):
            return CREDENTIALS if strong else WORDS
    return None


def _looks_made(value: bytes) -> bool:
    """Whether a value is no plain word, path or number: letters with digits, or both kinds of letters and some sign."""
    if value.startswith((b"/", b"./", b"~", b"http")) or value.isdigit():
        return False
    kinds = [re.search(one, value) is not None for one in (rb"[a-z]", rb"[A-Z]", rb"[0-9]", rb"[^a-zA-Z0-9_.-]")]
    return len(value) >= 8 and kinds.count(True) >= 2 and (kinds[2] or kinds[3] or len(value) >= 16)


def credentials_in(text: bytes) -> bool:
    """Whether lines of a log look like credentials that were written down."""
    for form in (_ASSIGNED, _TOKENS, _URL):
        for found in form.finditer(text):
            if not _STANDS_FOR.search(found[found.lastindex or 0]):
                return True
    return re.search(rb"(?i)\bauthorization: (?:basic|bearer) [\w.+/=-]{12,}", text) is not None


def in_tests(path: str) -> bool:
    """Whether a path says of itself that what lies there is for tests."""
    return _TESTS.search(posixpath.dirname(path)) is not None


def is_example(path: str, kind: str) -> bool:
    """Whether a secret is an example or a test of a library, where a language's own packages lie: their texts show
    how something is opened, and their keys lie with their tests."""
    found = _LIBRARIES.search(path)
    if found is None:
        return False
    return kind in (CREDENTIALS, WORDS) or _SHOWN.search(posixpath.dirname(path)[found.start() :]) is not None
