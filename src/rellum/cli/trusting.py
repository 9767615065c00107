"""Trust in a feed: by the fingerprint that somebody was told, else by asking whether it is right."""

from __future__ import annotations

from rellum.cli import console
from rellum.core.feed.trusting import Trust


def trust_in(said: str) -> Trust:
    """Return what says whether a feed's fingerprint is the right one."""
    if said:
        from rellum.core.feed.trusting import trusting

        return trusting(said)

    def ask(found: str) -> bool:
        if not console.is_interactive() or console.wants_json():
            return False
        console.clear_progress()
        console.say(f"The feed's fingerprint is {found}")
        return console.confirm(
            "Is that what its curator told you?", yes=False, what="this trusts a feed"
        )

    return ask
