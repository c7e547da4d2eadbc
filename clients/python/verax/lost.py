"""Invalidations that did not get through, kept until they do."""

from dataclasses import dataclass
from typing import Dict, List, Optional


@dataclass(frozen=True)
class Outdated:
    """What a write outdates: the entry of a key, or every entry with a tag."""

    key: Optional[str] = None
    tag: Optional[str] = None


class LostInvalidations:
    """A bounded queue, oldest first."""

    MAX_KEPT, TOGETHER = 10_000, 100

    def __init__(self) -> None:
        self.kept: Dict[Outdated, None] = {}
        self.tags = 0
        self.is_delivering = False

    def add(self, outdated: Outdated) -> bool:
        """Keeps one; returns whether there was room."""
        if outdated in self.kept:
            return True
        if len(self.kept) >= self.MAX_KEPT:
            return False
        self.kept[outdated] = None
        self.tags += outdated.tag is not None
        return True

    def oldest(self) -> List[Outdated]:
        """Some of the oldest."""
        return list(self.kept)[: self.TOGETHER]

    def settle(self, outdated: Outdated) -> None:
        """Forgets one that was delivered or refused."""
        if outdated in self.kept:
            del self.kept[outdated]
            self.tags -= outdated.tag is not None

    def concerning(self, key: str) -> List[Outdated]:
        """Those that may concern a key: its own, and every tag, since the tags of an entry are not
        known."""
        if not self.kept:
            return []
        own = Outdated(key=key)
        concerned = [own] if own in self.kept else []
        if self.tags:
            concerned += [kept for kept in self.kept if kept.tag is not None]
        return concerned
