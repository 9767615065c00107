"""Mistakes between the files of a catalog: statements about things that do not exist, and statements
that contradict one another.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from rellum.core.catalog.model import Catalog, Clash, Mod, Need, Release, Requirement, Trial
from rellum.core.catalog.open_lines import MARK, open_lines
from rellum.core.catalog.release_rules import ChosenOptions, Source
from rellum.core.catalog.tables import Fault
from rellum.core.nearest import nearest
from rellum.core.values.ids import ModId
from rellum.core.values.paths import shown_file
from rellum.core.versions.ranges import Range, parse_range


class _Found:
    """What was found out of a catalog: many releases say the same, and it is looked up once."""

    def __init__(self, catalog: Catalog) -> None:
        self._catalog = catalog
        self._there: dict[Requirement, bool] = {}
        self._meets_game: dict[str, bool] = {}

    def is_there(self, asked: Requirement) -> bool:
        """Whether a release, or one that stands in for it, lies in a range."""
        found = self._there.get(asked)
        if found is None:
            range_ = self._catalog.range_of(asked)
            found = self._there[asked] = _is_there(self._catalog, asked.mod, range_)
        return found

    def is_for_known_game(self, text: str) -> bool:
        """Whether a range has a game version that the sheet knows, or any at all where it lists none."""
        found = self._meets_game.get(text)
        if found is None:
            range_, known = parse_range(text), self._catalog.sheet.known_versions
            found = any(each in range_ for each in known) if known else not range_.is_empty
            self._meets_game[text] = found
        return found


def vet(catalog: Catalog) -> list[Fault]:
    """Return all that is wrong between the files of a catalog."""
    faults: list[Fault] = []
    found = _Found(catalog)
    for mod in catalog.mods.values():
        for release in mod.releases:
            faults += _of_release(catalog, found, mod, release)
        for group in mod.options:
            for choice in group.choices:
                faults += _of_needs(catalog, found, choice.needs, choice.source)
                faults += _of_clashes(catalog, mod.id, choice.clashes, choice.source)
                faults += _of_game(catalog, found, choice.game, choice.source)
                where = choice.source.at("expansions")
                names = (*choice.expansions_needed, *choice.expansions_forbidden)
                faults += _unknown_expansions(catalog, names, where)
    for trial in catalog.trials:
        faults += of_trial(catalog, trial)
    faults += _load_cycles(catalog)
    return faults


def notes(catalog: Catalog) -> list[Fault]:
    """Return what is no mistake in a catalog, and what its curator may want to know."""
    return [
        Fault(
            source=release.source.at("file"),
            message=f"{file.name} has neither sha256 nor blake3: it can only be taken with --as",
        )
        for mod in catalog.mods.values()
        for release in mod.releases
        for file in release.all_files
        if not (file.sha256 or file.blake3)
    ]


def unfinished(catalog: Catalog) -> list[str]:
    """Return every line of sheet and cards that a person must still decide, as ``file:line: …``."""
    sheet = catalog.sheet.source.file
    cards = dict.fromkeys(
        release.source.file
        for mod in catalog.mods.values()
        for release in mod.releases
        if release.open_lines
    )
    return [line for file in (sheet, *cards) for line in _open_lines_of(file)]


def _open_lines_of(file: str) -> list[str]:
    try:
        with open(file, encoding="utf-8") as stream:
            text = stream.read()
    except (OSError, UnicodeDecodeError):
        return []
    lines = text.splitlines()
    return [f"{shown_file(file)}:{n}: {_to_decide(lines[n - 1])}" for n in open_lines(text)]


def _to_decide(line: str) -> str:
    """Say what is to be decided about a line: its value, and the words of its mark."""
    value, _, words = line.strip().partition(f"{MARK}:")
    value = value.rstrip("# ")
    what = f"{value}: " if value else ""
    return f"{MARK}: {what}{words.strip() or 'decide this, and remove the mark'}"


def _of_release(catalog: Catalog, found: _Found, mod: Mod, release: Release) -> Iterator[Fault]:
    source = release.source
    yield from _of_game(catalog, found, release.game, source)
    yield from _of_needs(catalog, found, release.needs, source)
    yield from _of_clashes(catalog, mod.id, release.clashes, source)
    yield from _of_surroundings(catalog, release)
    for need in release.needs:
        if any(each.mod == mod.id for each in need.any_of):
            yield Fault(source=source.at(*need.key), message=f"{mod.id} needs itself")
    for chosen, where in _chosen_options(release):
        yield from _of_chosen_options(mod, chosen, where)
    for offer in release.offers:
        if offer.mod == mod.id:
            yield Fault(source=source.at("offers", mod.id), message=f"{mod.id} offers itself")
    for made_for in release.made_for:
        other = catalog.mods.get(made_for.mod)
        if other is None:
            yield _unknown_mod(catalog, made_for.mod, source.at(*made_for.key))
            continue
        known = {each.build for each in other.releases if each.build}
        known |= {f"{group.id}.{each.id}" for group in other.options for each in group.choices}
        for variant in made_for.variants:
            if variant not in known:
                words = f"{other.id} has no build or option {variant!r}" + nearest(variant, known)
                yield Fault(source=source.at(*made_for.key), message=words)
    for key, named in (("after", release.load_after), ("before", release.load_before)):
        for each in named:
            if each not in catalog.mods:
                yield _unknown_mod(catalog, each, source.at("load", key))
    yield from _contradictions(catalog, release)


def _chosen_options(release: Release) -> Iterator[tuple[ChosenOptions, Source]]:
    """Yield for which choices the files and places of a release are, and where that stands."""
    for file in release.all_files:
        yield file.options, release.source.at("file")
    for rule in release.places + (release.full.places if release.full else ()):
        yield rule.options, rule.source.at("options")
    for edit in release.edits:
        yield edit.options, edit.source.at("options")


def _of_chosen_options(mod: Mod, chosen: ChosenOptions, source: Source) -> Iterator[Fault]:
    groups = {group.id: [each.id for each in group.choices] for group in mod.options}
    for group, choice in chosen:
        if group not in groups:
            words = f"{mod.id} has no option {group!r}" + nearest(group, groups)
            yield Fault(source=source, message=words)
        elif choice not in groups[group]:
            known = nearest(choice, groups[group]) or f"; there are {', '.join(groups[group])}"
            yield Fault(source=source, message=f"{choice!r} is not a choice of {group}{known}")


def _of_surroundings(catalog: Catalog, release: Release) -> Iterator[Fault]:
    """What a release says of expansions and editions that the game sheet does not have."""
    editions = {rule.answer for rule in catalog.sheet.edition_rules}
    for key, named in (
        ("needs", release.expansions_needed),
        ("forbids", release.expansions_forbidden),
        ("shows-more-with", release.expansions_used),
    ):
        yield from _unknown_expansions(catalog, named, release.source.at("expansions", key))
    for each in release.editions or ():
        if each not in editions:
            words = f"the game sheet has no edition {each!r}" + nearest(each, editions)
            yield Fault(source=release.source.at("editions"), message=words)


def _unknown_expansions(catalog: Catalog, named: Iterable[str], source: Source) -> Iterator[Fault]:
    expansions = {rule.answer for rule in catalog.sheet.expansion_rules}
    for each in named:
        if each not in expansions:
            words = f"the game sheet has no expansion {each!r}" + nearest(each, expansions)
            yield Fault(source=source, message=words)


def _of_game(catalog: Catalog, found: _Found, game: str | None, source: Source) -> Iterator[Fault]:
    if game is None or found.is_for_known_game(game):
        return
    if parse_range(game).is_empty:
        yield Fault(source=source.at("game"), message=f"no version at all matches '{game}'")
    else:
        known = ", ".join(version.text for version in catalog.sheet.known_versions)
        words = f"no known game version matches '{game}'; the sheet knows {known}"
        yield Fault(source=source.at("game"), message=words)


def _of_needs(
    catalog: Catalog, found: _Found, needs: Iterable[Need], source: Source
) -> Iterator[Fault]:
    for need in needs:
        for each in need.any_of:
            if found.is_there(each):
                continue
            at = source.at(*need.key)
            mod = catalog.mods.get(each.mod)
            if mod is None and each.mod not in catalog.offered:
                yield _unknown_mod(catalog, each.mod, at)
            else:
                known = ", ".join(r.version.text for r in mod.releases[:8]) if mod else "stand-ins"
                words = f"no release of {each.mod} matches '{each.range}'; there are {known}"
                yield Fault(source=at, message=words)


def _is_there(catalog: Catalog, mod_id: ModId, range_: Range) -> bool:
    """Whether a release, or one that stands in for it, lies in a range."""
    mod = catalog.mods.get(mod_id)
    if mod and any(each.version in range_ for each in mod.releases):
        return True
    return any(
        offer.mod == mod_id and offer.version in range_
        for other in catalog.offered.get(mod_id, ())
        for release in catalog.mods[other].releases
        for offer in release.offers
    )


def _of_clashes(
    catalog: Catalog, mod_id: ModId, clashes: Iterable[Clash], source: Source
) -> Iterator[Fault]:
    for clash in clashes:
        reaches = not clash.spares_stand_ins and clash.other.mod in catalog.offered
        if clash.other.mod not in catalog.mods and not reaches:
            yield _unknown_mod(catalog, clash.other.mod, source.at(*clash.key))
        elif clash.other.mod == mod_id:
            yield Fault(source=source.at(*clash.key), message=f"{mod_id} clashes with itself")


def _contradictions(catalog: Catalog, release: Release) -> Iterator[Fault]:
    clashes = {clash.other.mod: clash for clash in release.clashes}
    for need in release.needs:
        only = need.any_of[0]
        clash = clashes.get(only.mod)
        if len(need.any_of) > 1 or clash is None:
            continue
        if catalog.range_of(only) <= catalog.range_of(clash.other):
            words = f"{release.name} needs {only} and clashes with {clash.other}"
            yield Fault(source=release.source.at(*need.key), message=words)
    both = set(release.expansions_needed) & set(release.expansions_forbidden)
    for each in sorted(both):
        words = f"{release.name} needs and forbids the expansion {each}"
        yield Fault(source=release.source.at("expansions"), message=words)
    if release.editions == ():
        words = f"{release.name} is for no edition at all"
        yield Fault(source=release.source.at("editions"), message=words)


def _unknown_mod(catalog: Catalog, mod_id: str, source: Source) -> Fault:
    words = f"no card in the catalog is for {mod_id!r}" + nearest(mod_id, catalog.mods)
    return Fault(source=source, message=words)


def of_trial(catalog: Catalog, trial: Trial) -> Iterator[Fault]:
    """Yield what a trial names that does not exist."""
    known = catalog.sheet.known_versions
    if known and trial.game not in known:
        texts = ", ".join(version.text for version in known)
        words = f"the game sheet knows no version {trial.game}; it knows {texts}"
        yield Fault(source=trial.source.at("game"), message=words)
    for mod_id, text in trial.releases:
        at = trial.source.at("releases", mod_id)
        mod = catalog.mods.get(mod_id)
        if mod is None:
            yield _unknown_mod(catalog, mod_id, at)
        elif all(each.version.text != text for each in mod.releases):
            words = f"{mod_id} has no release {text!r}"
            yield Fault(
                source=at, message=words + nearest(text, [r.version.text for r in mod.releases])
            )


def _load_cycles(catalog: Catalog) -> Iterator[Fault]:
    """Yield each ring of mods whose newest releases say that they load after one another."""
    newest = {
        mod.id: next((each for each in mod.releases if not each.withdrawn), mod.releases[0])
        for mod in catalog.mods.values()
    }
    after = {
        mod_id: [
            mod for mod in dict.fromkeys(release.load_after) if mod in newest and mod != mod_id
        ]
        for mod_id, release in newest.items()
    }
    for mod_id, release in newest.items():
        for other in release.load_before:
            if other in after and other != mod_id:
                after[other].append(mod_id)
    done: set[ModId] = set()
    for start in newest:
        path = {start: iter(after[start])} if start not in done else {}
        while path:
            mod_id = next(reversed(path))
            following = next((each for each in path[mod_id] if each not in done), None)
            if following is None:
                done.add(mod_id)
                del path[mod_id]
            elif following in path:
                ring = [*path][[*path].index(following) :]
                words = f"no load order exists: {' after '.join([*ring, ring[0]])}"
                yield Fault(source=newest[following].source, message=words)
                done.add(following)
                path = {}
            else:
                path[following] = iter(after[following])
