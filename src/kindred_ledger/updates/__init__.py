"""Updates: a release over an install, clean, beside, by components, or one install made of several parts."""

from .assemble import Assembly, assemble
from .beside import install_beside
from .markers import remove_marker, write_marker
from .reinstall import reinstall
from .reset import reset_settings
from .update import UpdateChoices, update

__all__ = [
    "Assembly",
    "UpdateChoices",
    "assemble",
    "install_beside",
    "reinstall",
    "remove_marker",
    "reset_settings",
    "update",
    "write_marker",
]
