"""The metadata of trees of files: modes, owners and targets, by the names of members."""

import stat
from collections.abc import Mapping, Set

from historon.compare.documents.interface import Document, Node, Notation, Plain
from historon.store import Member, read_tree

__all__ = ["parse_trees"]


class _Tree(Notation):
    """Members of a tree by their names."""

    def named(self, path: str, name: str) -> str:
        return f"{path} ({name})" if path else name


def parse_trees(old: bytes, new: bytes) -> tuple[Document, Document]:
    """The metadata of a tree on both sides, without times, and without files that the other side lacks.

    Such files are parts of their own, which are reported anyway.
    """
    before = {member.name: member for member in read_tree(old)}
    after = {member.name: member for member in read_tree(new)}
    return _tree(before, after.keys()), _tree(after, before.keys())


def _tree(members: Mapping[str, Member], others: Set[str]) -> Document:
    """A tree without the files that the other one lacks, as these are reported as parts."""
    fields: dict[str, Node] = {}
    for name, member in members.items():
        if name in others or not stat.S_ISREG(member.mode):
            fields[name] = _member(member)
    return Document("tree", Plain(fields=fields), _Tree())


def _member(member: Member) -> Node:
    facts = {"mode": stat.filemode(member.mode), "owner": member.owner, "target": member.target}
    return Plain(fields={name: Plain(value=value) for name, value in facts.items() if value is not None})
