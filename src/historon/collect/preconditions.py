"""What has to be so before a round starts: a disk that is mounted, room on it, a store that may be written."""

import os
import shutil
from pathlib import Path

from historon.base.errors import OutsideError
from historon.base.quantities import size_text
from historon.collect.failures import CollectError, FailureKind
from historon.estate import Estate, Procedure

__all__ = ["check_needs", "check_preconditions"]


def check_preconditions(estate: Estate) -> None:
    """Raise OutsideError when a round would write to the wrong disk, or fill it, or could not write at all."""
    store = estate.working_folder
    if estate.settings.mount is not None:
        _check_mount(estate.path(estate.settings.mount))
    if not os.access(store, os.R_OK | os.W_OK | os.X_OK):
        raise OutsideError(f"this user cannot write to {store}", hint="check its owner and mode")
    state = os.statvfs(store)
    if state.f_files and not state.f_favail:
        hint = "remove unneeded files there: many small ones use them up, not large ones"
        raise OutsideError(f"the disk of {store} has no inodes left: no file can be created there", hint=hint)
    free = shutil.disk_usage(store).free
    if free < estate.settings.free:
        wanted = f"{size_text(estate.settings.free)}"
        raise OutsideError(
            f"the disk of {store} has {size_text(free)} free, less than the {wanted} of free in [estate]",
            hint="free some space, for example with historon prune, or lower free in [estate]",
        )


def check_needs(estate: Estate, procedure: Procedure) -> None:
    """Raise CollectError when this machine lacks what a procedure says it needs."""
    needs = procedure.needs
    if needs is None:
        return
    mount = estate.path(needs.mount) if needs.mount is not None else None
    if mount is not None and not os.path.ismount(mount):
        raise CollectError(FailureKind.SETUP, f"nothing is mounted at {mount}", hint="mount it, then collect again")
    if needs.free is not None and (free := shutil.disk_usage(mount or estate.folder).free) < needs.free:
        message = f"the disk of {mount or estate.folder} has {size_text(free)} free"
        raise CollectError(FailureKind.SETUP, f"{message}, fewer than the {size_text(needs.free)} that it needs")
    for program in needs.programs:
        if not shutil.which(program):
            hint = "install it, or name it by its absolute path"
            raise CollectError(FailureKind.SETUP, f"there is no program {program} on this machine", hint=hint)


def _check_mount(folder: Path) -> None:
    if not os.path.ismount(folder):
        raise OutsideError(
            f"nothing is mounted at {folder}; collecting is blocked",
            hint=f"mount it; the store must be on that disk: {folder}",
        )
