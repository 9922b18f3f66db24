"""Objects of the real file tree that read the tree under them in bulk."""

from typing import Any

from fiat.core.model.host import Progress
from fiat.core.tree.walk import Extent
from fiat.host.live.node import LiveNode


class LiveTreeNode(LiveNode):
    """An object held open by a handle, and all that is under it."""

    __slots__ = ()

    def survey(self, extent: Extent, progress: Progress) -> Any:
        """All that is at and under this object, as a :class:`fiat.core.tree.survey.Survey`.

        Which is not said in the annotation: it would load NumPy with every command.
        """
        from fiat.host.live import gathering

        return gathering.survey(self, extent, progress)
