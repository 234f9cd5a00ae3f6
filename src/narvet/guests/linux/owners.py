"""Owners as a sheet has them, looked up in a Linux guest's own accounts. Pure."""

from __future__ import annotations

from narvet.model.estate import Guest

_LARGEST_ID = (1 << 32) - 2  # the largest user or group number; the next means "no one"


def resolve_owner(owner: str, found: Guest) -> tuple[int, int] | None:
    """Return uid and gid of "user" or "user:group", None if the guest has no such account.

    A user alone brings the group of its account, or its own number.
    """
    user, _, group = owner.partition(":")
    if user.isdigit():
        uid, own_group = int(user), int(user)
    elif user in found.users:
        uid, own_group = found.users[user]
    else:
        return None
    gid = own_group if not group else int(group) if group.isdigit() else found.groups.get(group)
    if gid is None or max(uid, gid) > _LARGEST_ID:
        return None
    return uid, gid
