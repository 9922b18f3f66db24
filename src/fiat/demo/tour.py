"""The guided run: what a night's work with Fiat looks like, in its order."""

from typing import NamedTuple

_RAW = "/srv/skerry/gauge/raw"
_BAROMETER = "/srv/skerry/observatory/2026/november/barometer.csv"
_SERIES = "/srv/skerry/series/reduced-2026.csv"


class Scene(NamedTuple):
    """A few sentences, then one command line (without ``fiat``); ``part`` opens a new part.

    ``held`` tells that it is asked of the sample host as such, and does not name its states itself.
    """

    part: str
    story: str
    command: tuple[str, ...]
    held: bool = True


SCENES = (
    Scene(
        "Look",
        "skerry is a lighthouse and tide-gauge station. Its gauge readings lie in a directory that the service "
        "tidefeed fills, the watch reads and an auditor may look into. This is all that it says about access:",
        ("show", _RAW),
    ),
    Scene(
        "",
        "That is what it allows. Who can therefore really get at it is another question, and the answer counts "
        "every directory on the way:",
        ("who", _RAW),
    ),
    Scene(
        "Understand",
        "2750, rwxr-s---: two ways to write one mode. Any notation can be had in all the others, and in words:",
        ("decode", "2750"),
    ),
    Scene(
        "",
        'The surveyor rings: "I cannot read the barometer." The file itself says r for everyone:',
        ("show", _BAROMETER),
    ),
    Scene("", "So why not? The blocker is three directories up:", ("why", "surveyor", "read", _BAROMETER)),
    Scene(
        "",
        "The steward has an entry of their own on the year's series, with rw, and still cannot write:",
        ("why", "steward", "write", _SERIES),
    ),
    Scene(
        "",
        "The apprentice will draw charts tomorrow, in the directory that the survey shares. What will they look like, "
        "and who could use them?",
        ("foresee", "/srv/skerry/charts/draft", "--by", "apprentice"),
    ),
    Scene(
        "Change",
        "Raising the mask is one command. See first what else it would do - here, that it lets the whole watch write:",
        ("set", _SERIES, "--mode", "g+w", "--preview"),
    ),
    Scene(
        "",
        "The auditor, too, should read the barometer, and nothing more. What would that cost everyone else?",
        ("let", "auditor", "read", _BAROMETER),
    ),
    Scene(
        "",
        "For the surveyor, Fiat proposed an entry of their own. What it would mean for all that lies under it:",
        ("set", "/srv/skerry/observatory", "--entry", "user:surveyor:--x", "--preview"),
    ),
    Scene(
        "",
        "The series should be closed to all but the survey, the whole tree at once, files and directories apart. Equal "
        "changes share a row, and whoever would lose something is named before it happens:",
        ("set", "/srv/skerry/series", "--below", "--dir-mode", "2750", "--file-mode", "o=", "--preview"),
    ),
    Scene(
        "",
        "Anyone may hand something in at the dropbox, and the steward should read it: but what somebody puts there "
        "with 0600 the steward cannot. The posture that sees to it has a name; nobody needs to think of the bits:",
        ("set", "/srv/skerry/dropbox", "--arrange", "drop-box:steward", "--preview"),
    ),
    Scene(
        "",
        "Or should the surveyor join the watch? What would hold then, before anyone touches the accounts:",
        ("who", "/srv/skerry/observatory", "--if-member", "surveyor:watch", "--user", "surveyor", "--group", "watch"),
    ),
    Scene(
        "Verify",
        "The chart service complains that it cannot write its log. It is in the group, but the group only reads:",
        ("why", "chartpress", "write", "/srv/skerry/log/chartpress.log"),
    ),
    Scene(
        "",
        "Last, before going to bed: all that just anybody on this host can write to.",
        ("who", "/srv/skerry", "--below", "--can", "write", "--anyone-else"),
    ),
    Scene(
        "Risk",
        "What is dangerous on this host, whoever made it so? Each danger with who can really use it, and the command "
        "that mends it:",
        ("audit", "/srv/skerry", "--weight", "danger"),
    ),
    Scene(
        "",
        "What is dangerous is one thing, what was agreed on another. That is written down in a file, beside the "
        "configuration that it protects. Does it still hold?",
        ("check", "skerry"),
    ),
    Scene(
        "",
        "One plan makes both hold again, and takes nothing from anybody else:",
        ("check", "skerry", "--mend"),
    ),
    Scene(
        "Keep",
        "A week later somebody has worked on the host, and the keeper wants to know: who got in by it? "
        "Fiat had saved the tree on Monday (fiat save /srv/skerry --add saved):",
        ("compare", "skerry", "skerry-later", "--gains-only"),
        held=False,
    ),
)
