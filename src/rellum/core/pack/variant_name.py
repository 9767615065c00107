"""Which variant a text of rellum.toml is for: all that a backup needs to know of variants."""

from rellum.core.pack.home import MAIN


def name_in(text: str) -> str:
    """Return the variant that a text of rellum.toml is for; an empty text where it cannot be read.

    Most packs have one variant and never write the word: then nothing is parsed.
    """
    if "variant" not in text and "\\" not in text:  # a quoted key could be written with escapes
        return MAIN
    import tomli

    try:
        return str(tomli.loads(text).get("pack", {}).get("variant", MAIN))
    except (ValueError, AttributeError):
        return ""
