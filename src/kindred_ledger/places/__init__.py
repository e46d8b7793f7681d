"""Places and trees: somewhere files live, and what is there."""

from .archive import ZipPlace, add_member, rewrite_zip
from .durable import (
    make_folders,
    refusals,
    refused,
    remove_tree,
    sync_dir,
    sync_files,
    write_atomic,
    write_once,
)
from .folder import WORK_FOLDER, FilePlace, FolderPlace, ItemPlace, lstat_node
from .holding import FULL, Holding, holding_at, holdings_of
from .lock import hold, hold_place, is_held
from .memory import MemoryPlace
from .names import check_portable, collisions, folded, parents
from .opening import archive_of, join_folders, open_place, place_at, roots_of
from .place import BLOCK, Place, digest_of, digested, read_bytes, scan, still_changing
from .running import Running, running_in
from .seen import Seen
from .select import Categories, Every, Patterns, check_patterns, check_selected, near
from .tarball import TarPlace
from .tree import (
    DIR,
    FILE,
    LINK,
    OTHER,
    Difference,
    Node,
    Side,
    ThreeWay,
    Tree,
    node_of,
    same_content,
    three_way,
)
from .views import JoinedPlace, LaidPlace, SubPlace, disk_path, folders_of, look

__all__ = [
    "BLOCK",
    "DIR",
    "FILE",
    "FULL",
    "LINK",
    "OTHER",
    "WORK_FOLDER",
    "Categories",
    "Difference",
    "Every",
    "FilePlace",
    "FolderPlace",
    "Holding",
    "ItemPlace",
    "JoinedPlace",
    "LaidPlace",
    "MemoryPlace",
    "Node",
    "Patterns",
    "Place",
    "Running",
    "Seen",
    "Side",
    "SubPlace",
    "TarPlace",
    "ThreeWay",
    "Tree",
    "ZipPlace",
    "add_member",
    "archive_of",
    "check_patterns",
    "check_portable",
    "check_selected",
    "collisions",
    "digest_of",
    "digested",
    "disk_path",
    "folded",
    "folders_of",
    "hold",
    "hold_place",
    "holding_at",
    "holdings_of",
    "is_held",
    "join_folders",
    "look",
    "lstat_node",
    "make_folders",
    "near",
    "node_of",
    "open_place",
    "parents",
    "place_at",
    "read_bytes",
    "refusals",
    "refused",
    "remove_tree",
    "rewrite_zip",
    "roots_of",
    "running_in",
    "same_content",
    "scan",
    "still_changing",
    "sync_dir",
    "sync_files",
    "three_way",
    "write_atomic",
    "write_once",
]
