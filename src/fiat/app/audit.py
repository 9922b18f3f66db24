"""Auditing: what is dangerous in trees, or probably not meant, and what mends it."""

from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager, nullcontext
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from fiat.app import unevaluated
from fiat.app.problems import Problem, raise_problem
from fiat.app.trust import FREE, Trust
from fiat.core.ask import caveats
from fiat.core.audit import known as knowing
from fiat.core.audit.auditedtree import AuditedTree, Rule
from fiat.core.audit.evidence import Evidence, NoEvidence
from fiat.core.audit.examine import TreeFinding, examine, in_order
from fiat.core.audit.known import AcceptedFinding
from fiat.core.audit.mending import Mended, mended
from fiat.core.audit.registry import RULES as RULES
from fiat.core.errors import ElevationError, NotationError, PathError
from fiat.core.model.finding import WEIGHTS, Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.route import lies_under
from fiat.core.state.capture import outermost
from fiat.core.text import near, quoted
from fiat.core.tree.reading import surveys_at
from fiat.core.tree.walk import Extent
from fiat.core.words.selection import Selection
from fiat.core.words.toml import LARGEST
from fiat.engine.processes import Beside
from fiat.host.trust import create

_HOLDS = timedelta(days=182)
"""So long a finding is accepted, where nothing else is written."""


class Audit(NamedTuple):
    """What was found in the trees ``tops``, the worst first; so many ``objects`` were looked at.

    ``known`` are the paths that were accepted, ``over`` what was until its day.
    """

    found: list[Mended]
    tops: list[str]
    objects: int
    known: int
    over: list[AcceptedFinding]
    caveats: list[Finding]
    host: Host

    def weighing(self, weight: str) -> list[Mended]:
        """The findings of one weight, in the order in which they were found."""
        return [one for one in self.found if one.told.found.weight == weight]


def chosen_rules(only: Iterable[str] = (), without: Iterable[str] = (), *, logs: bool = False) -> list[Rule]:
    """The rules that are asked for; :class:`NotationError` for a name that is none."""
    named, left_out = list(only), list(without)
    for word in (*named, *left_out):
        if word not in RULES:
            raise NotationError(word, f"no rule is called {quoted(word)}{near(word, RULES)}; --rules lists them")
    return [
        rule
        for code, rule in RULES.items()
        if (code in named if named else logs or not rule.asked) and code not in left_out
    ]


def evidence_of(host: Host) -> Evidence:
    """What there is beside the file tree: of the live host what it says, of a snapshot what it holds."""
    from fiat.host.live.host import LiveHost

    if isinstance(host, LiveHost):
        from fiat.host.evidence.live import LiveEvidence

        return LiveEvidence(host)
    kept: Evidence | None = getattr(host, "evidence", None)
    return NoEvidence() if kept is None else kept


def audit(
    host: Host,
    paths: Sequence[str],
    rules: Sequence[Rule],
    selection: Selection = Selection(),  # noqa: B008
    *,
    known: Sequence[AcceptedFinding] = (),
    weight: str = "plain",
    across_mounts: bool = False,
    elevation: str | None = None,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Audit:
    """What ``rules`` find at and under ``paths``; what mends it is asked of what is of ``weight`` and worse.

    By which rules users act as others is read from the file ``elevation``, if not from the host.
    """
    told: list[TreeFinding] = []
    said: list[Finding] = unevaluated.of_host(host)
    with _begun(evidence_of(host)) as evidence:
        elevations: list[Finding] = []
        with_rules = _with_elevations(host, evidence, elevation, elevations)
        extent = Extent(across_mounts=across_mounts, details=True)
        read = list(surveys_at(host, paths, extent, problem, progress))
        said += [*_not_looked_at(evidence), *elevations]
    evidence = with_rules
    objects = 0
    routes = {id(survey): route for route, survey in read}
    tops = outermost([survey for _, survey in read])
    for survey in tops:
        route = routes[id(survey)]
        audited = AuditedTree(host, route, survey, evidence)
        for trouble in survey.troubles:
            if not any(lies_under(trouble.path, point) for point in audited.kernels_own):
                problem(PathError(trouble.path, trouble.errno))
        if not survey.complete:
            raise KeyboardInterrupt
        said += [*caveats.of_route(route), *caveats.of_mounts_left_out(survey.skipped)]
        objects += len(survey)
        found = examine(audited, rules)
        told += found if selection.everything else _selected(found, audited, selection)
    for trouble in evidence.unread():
        problem(PathError(trouble.path, trouble.errno, "look into", "what it holds is not known"))
    left, accepted, over = knowing.without_known(told, known, datetime.now(UTC).date().isoformat())
    worse = WEIGHTS[: WEIGHTS.index(weight) + 1]
    ordered = in_order(left)
    asked = mended([one for one in ordered if one.found.weight in worse], Beside)
    rest = [Mended(one) for one in ordered if one.found.weight not in worse]
    return Audit(
        [*asked, *rest], [survey.top.path for survey in tops], objects, accepted, over, list(dict.fromkeys(said)), host
    )


def _begun(evidence: Evidence) -> AbstractContextManager[Evidence]:
    """The evidence; what has to be looked for is looked for while something else is done."""
    return evidence if isinstance(evidence, AbstractContextManager) else nullcontext(evidence)


def _with_elevations(host: Host, evidence: Evidence, file: str | None, said: list[Finding]) -> Evidence:
    """The evidence with what users may run as others, where there are rules for it."""
    from fiat.app.elevation import Matcher, WithElevations, elevations_of

    try:
        found = elevations_of(host, file)
    except ElevationError as error:
        if file is not None:
            raise
        said.append(Finding("not-looked-at", "plain", f"what users may run as others: {error}"))
        return evidence
    if not found.rules:
        return evidence
    with_rules: Evidence = WithElevations(evidence, Matcher(found, host.accounts))
    return with_rules


def _selected(told: list[TreeFinding], audited: AuditedTree, selection: Selection) -> list[TreeFinding]:
    """Of each finding what is meant."""
    meant = audited.survey.chosen(selection.on(audited.accounts))
    found = []
    for one in told:
        places = one.found.places[meant[one.found.places]]
        if len(places):
            found.append(one._replace(found=one.found._replace(places=places)))
    return found


def _not_looked_at(evidence: Evidence) -> list[Finding]:
    """What this host does not tell."""
    found = []
    for what, there in (
        ("which packages own what", evidence.packaged(())),
        ("what files hold", evidence.secrets(())),
        ("what services and the clock start", evidence.started()),
        ("which libraries programs with privilege load", evidence.loaded("")),
    ):
        if there is None:
            text = f"{what}: the snapshot does not say; fiat save --for-audit keeps it"
            found.append(Finding("not-looked-at", "plain", text))
    return found


def read_known(path: str, trust: Trust = FREE) -> list[AcceptedFinding]:
    """The findings that the file ``path`` accepts; :class:`NotationError` for what is wrong in it, and PathError."""
    return knowing.read(trust.read(path, "the file of accepted findings", LARGEST), path, RULES)


def write_known(found: Iterable[Mended], path: str) -> int:
    """Write a new file that accepts these once each has a reason; the number of lines. Raises PathError."""
    until = (datetime.now(UTC) + _HOLDS).date().isoformat()
    lines = list(knowing.write((one.told for one in found), until))
    try:
        create(path, "".join(lines))
    except OSError as error:
        raise PathError(path, error.errno or 5, "write") from error
    return len(lines)
