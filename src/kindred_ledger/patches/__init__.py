"""Patches: what makes one file or folder of another, for several bases, and what a file is to them."""

from .applying import Verdict, apply_delta, apply_patch, identify_base
from .contents import MemoryFile
from .making import make_patch_set
from .patch_set import Base, Change, Manifest, Output, PatchSet, is_patch_set, write_patch_set

__all__ = [
    "Base",
    "Change",
    "Manifest",
    "MemoryFile",
    "Output",
    "PatchSet",
    "Verdict",
    "apply_delta",
    "apply_patch",
    "identify_base",
    "is_patch_set",
    "make_patch_set",
    "write_patch_set",
]
