"""Where arrangements are kept: those that come with Fiat, and those of this machine and of whoever acts."""

import os

_BUILTIN = os.path.join(os.path.dirname(os.path.dirname(__file__)), "arrangements", "builtin.toml")
_NAME = "arrangements.toml"
_MACHINE = "/etc/fiat"


def builtin() -> bytes:
    """What the file holds that comes with Fiat."""
    with open(_BUILTIN, "rb") as file:
        return file.read()


def usual_places() -> list[str]:
    """The files of the machine, and of whoever acts unless that is root."""
    places = [f"{_MACHINE}/{_NAME}"]
    if os.geteuid() != 0:
        from platformdirs import user_config_dir

        places.append(os.path.join(user_config_dir("fiat"), _NAME))
    return places


def has_own() -> bool:
    """Whether there are files in the usual places."""
    return any(os.path.exists(place) for place in usual_places())
