"""``rellum hunt``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from rellum.cli import console, options
from rellum.cli.request import request_of
from rellum.cli.views import hunt as view

if TYPE_CHECKING:
    from rellum.core.actions.live.hunt import HuntState
    from rellum.core.change.request import Request


def hunt(
    answer: Annotated[
        str,
        typer.Option(
            "--answer", metavar="works|breaks|other", help="Answer for what is laid, and go on."
        ),
    ] = "",
    note: Annotated[str, typer.Option("--note", metavar="TEXT", help="What you saw.")] = "",
    run: Annotated[
        str,
        typer.Option(
            "--run",
            metavar="CMD",
            help="Let a command answer: status 0 works, 125 something else, any other breaks.",
        ),
    ] = "",
    log: Annotated[
        bool, typer.Option("--log", help="Start the game and let its log answer, by the sheet.")
    ] = False,
    breaks: Annotated[
        str,
        typer.Option(
            "--breaks",
            metavar="always|mostly|sometimes",
            help="How reliably it breaks; sometimes: about four times in five.",
        ),
    ] = "",
    repeat: Annotated[
        int, typer.Option("--repeat", metavar="N", min=1, help="Try each set so many times.")
    ] = 1,
    limit: Annotated[
        float | None,
        typer.Option("--limit", metavar="SECONDS", min=0.1, help="End each try after this time."),
    ] = None,
    stop: Annotated[
        bool, typer.Option("--stop", help="Give up: the whole pack, settings and saves come back.")
    ] = False,
    even_if_running: options.EvenIfRunning = False,
    pack: options.Pack = options.HERE,
    as_json: options.Json = False,
) -> None:
    """Find the mod, or the mods together, that break the pack.

    Lays a part of the pack, asks whether it breaks, and halves what is left to look at. Needs and load order
    are kept; settings and saves are the same in each round. A hunt that you leave goes on when you call it
    again.
    """
    from rellum.core.actions.live import hunt as actions

    if sum((bool(answer), bool(run), log, stop)) > 1:
        raise console.BadCall("choose one of --answer, --run, --log and --stop")
    if answer not in ("", "works", "breaks", "other"):
        raise console.BadCall(f"--answer {answer}: it is works, breaks or other")
    if breaks not in ("", *view.RELIABLY):
        raise console.BadCall(f"--breaks {breaks}: it is {', '.join(view.RELIABLY)}")
    request = request_of(pack, even_if_running=even_if_running, shelf=True)
    if stop:
        _stop(request, as_json=as_json)
        return
    is_new = not actions.is_hunting(request)
    if is_new and answer:
        raise console.BadCall("no hunt is under way", hint="Begin one with 'rellum hunt'.")
    if is_new:
        asks = console.is_interactive() and not (run or log)
        rates = view.rates_of(breaks, repeat, may_ask=asks)
        view.show_begun(actions.begin_hunt(request, rates), as_json=as_json)
    if answer:
        actions.answer_question(request, view.as_answer(answer), note)
    answering = view.Answering(command=run, by_log=log, repeat=repeat, limit=limit)
    _rounds(request, answering, as_json=as_json)


def _rounds(request: Request, answering: view.Answering, *, as_json: bool) -> None:
    """Lay, ask and answer until the culprits are found, or nobody answers."""
    from rellum.core.actions.live import hunt as actions

    while True:
        state = actions.lay_question(request)
        if state.question is None:
            break
        view.show_question(state, as_json=as_json)
        said = view.answer_for(request, answering)
        if said is None:
            view.show_waiting(state, as_json=as_json)
            return
        actions.answer_question(request, said)
        view.show_answer(said, as_json=as_json)
    _ended(request, state, as_json=as_json)


def _ended(request: Request, state: HuntState, *, as_json: bool) -> None:
    from rellum.core.actions.live import hunt as actions

    end = actions.end_hunt(request)
    assert end is not None
    view.show_end(end, state, as_json=as_json)
    if end.found.ending != "found":
        raise typer.Exit(1)


def _stop(request: Request, *, as_json: bool) -> None:
    from rellum.core.actions.live import hunt as actions
    from rellum.core.errors import RellumError
    from rellum.core.pack.hunt_log import HuntFault

    try:
        actions.end_hunt(request)
    except HuntFault:
        actions.drop_hunt(request)
        if as_json:
            console.say_json({"ended": "given up", "laid_again": False})
        console.say("The hunt is given up. 'rellum apply' lays the whole pack again.")
        return
    except RellumError as error:
        raise error.with_hint("The hunt is still under way.") from error
    if as_json:
        console.say_json({"ended": "given up", "laid_again": True})
    console.say(
        "The hunt is given up: the whole pack is in the game, settings and saves as before."
    )
