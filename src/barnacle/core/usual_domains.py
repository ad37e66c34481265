"""The domains that many have an address at, and which of them was meant by one that is nearly the same."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping

# A domain is thought mistyped when it is within this many slips of one that this many times more people have.
_SLIPS = 2
_MORE_FREQUENT = 5
# So many are known as usual, the most frequent: where there are more, hardly any of the rest is what somebody meant.
_MOST = 20_000


class UsualDomains:
    """The domains of a book, each with how many addresses there are at it."""

    def __init__(self, counts: Mapping[str, int]) -> None:
        self.counts = counts
        self._meant: dict[str, str] = {}
        # By length, the most frequent first: what is looked through is a small part of all, by a loop in C.
        self._numbers: dict[int, list[int]] = {}
        self._domains: dict[int, list[str]] = {}
        usual = [(-number, domain) for domain, number in counts.items() if number >= _MORE_FREQUENT]
        for number, domain in sorted(usual)[:_MOST]:
            self._numbers.setdefault(len(domain), []).append(number)
            self._domains.setdefault(len(domain), []).append(domain)

    def meant_by(self, domain: str) -> str:
        """Which of them was likely meant by that one, in lower case; empty where it is likely right."""
        found = self._meant.get(domain)
        if found is None:
            found = self._meant[domain] = self._nearest(domain)
        return found

    def _nearest(self, domain: str) -> str:
        from rapidfuzz import process  # only where something is compared: they cost start-up time
        from rapidfuzz.distance import OSA

        least = -_MORE_FREQUENT * self.counts.get(domain, 1)
        near = []
        for length in range(len(domain) - _SLIPS, len(domain) + _SLIPS + 1):
            numbers = self._numbers.get(length, [])
            enough = self._domains.get(length, [])[: bisect_right(numbers, least)]
            near += [
                (slips, numbers[place], other)
                for other, slips, place in process.extract(
                    domain, enough, scorer=OSA.distance, score_cutoff=_SLIPS, limit=None
                )
                if slips
            ]
        best = min(near, default=None)
        return best[2] if best is not None and len(domain) > 2 * best[0] + 4 else ""
