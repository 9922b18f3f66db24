"""Changes on an overlay: what comes from a lower layer is copied to the upper one first, and that may make it another
inode, of which the history has to know before anything changes."""

from contextlib import suppress

from fiat.core.change.planned import Items
from fiat.core.change.rewriting import same_posture
from fiat.core.model.host import Host
from fiat.core.tree.walk import Handles


def in_upper_layers(host: Host, items: Items) -> Items:
    """The items, each with the identity that its object has in the upper layer, where it is on an overlay.

    What is another object than was planned for by now is left alone: that is told when it is to be changed.
    """
    mounts = (planned.profile.mount for planned in items.planned)
    there = {number for number, mount in enumerate(mounts) if mount is not None and mount.type == "overlay"}
    if not there:
        return items
    found = Items(items.planned)
    found.add_all(items)
    handles = Handles(host)
    try:
        for place in [place for place, number in enumerate(items.numbers) if number in there]:
            item = items[place]
            with suppress(OSError):
                node = handles.open(item.path)
                try:
                    seen = node.glance()
                    if not (same_posture(seen.posture, item.change.before) and seen.identity.same_as(item.identity)):
                        continue
                    node.copy_up()
                    now = node.glance()
                    found.identities[place], found.links[place] = now.identity, now.links
                finally:
                    node.close()
    finally:
        handles.close()
    return found
