"""The console of `wexicon talk`: a line that is edited, and above it all that is said and heard, as it comes.

The rule: what arrives while a line is being typed stands above that line, whole, at once; what a module sent is shown
escaped, so that none of it moves the cursor. Two modules share one window: each line has its side's name and colour.
"""

from __future__ import annotations

import asyncio
import contextlib
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from prompt_toolkit import PromptSession
from prompt_toolkit.buffer import Buffer
from prompt_toolkit.completion import CompleteEvent, Completer, Completion
from prompt_toolkit.document import Document
from prompt_toolkit.formatted_text import FormattedText
from prompt_toolkit.history import FileHistory, History
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.keys import Keys
from prompt_toolkit.layout.processors import Processor, Transformation, TransformationInput
from prompt_toolkit.output import ColorDepth

from wexicon.cli.show import SIDES, harmless, line_of, styled
from wexicon.cli.signals import signals_to
from wexicon.core.text import counted
from wexicon.files import private_folder, state_folder
from wexicon.work.console.completion import hint, secret_from, suggestions
from wexicon.work.console.sides import Sides

if TYPE_CHECKING:
    from wexicon.core.results.functions import TalkLine
    from wexicon.work.console.conversation import Talk

# How long the conversation may take to end after a signal, and how often is looked whether it did (seconds).
WAITS_FOR_END = 5.0
LOOKS = 0.1
# How long the first drawing of the prompt takes, and how long a terminal may take to tell where it stands (seconds).
DRAWN, TELLS_PLACE = 0.05, 0.25
# The colours of the two sides, as prompt_toolkit calls them.
PAINTS = {"cyan": "ansicyan", "magenta": "ansimagenta"}


class Console:
    """The console of one conversation, or of two side by side."""

    def __init__(self) -> None:
        self._waiting: deque[str] = deque()
        self._lock = threading.Lock()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._asked: tuple[str, threading.Event, list[str]] | None = None
        self._asking: PromptSession[str] | None = None
        self._printing = self._greeted = self._stopped = False

    # -- from the conversation's thread -------------------------------------------------------------------------------

    def show(self, shown: TalkLine) -> None:
        """Takes a line, from any thread."""
        with self._lock:
            self._waiting.append(line_of(shown))
            due = not self._printing
            self._printing = True
        if self._loop is None:
            self._print()
        elif due:
            self._soon(self._print)

    def ask(self, name: str) -> str:
        """Asks for a secret, unseen; waits for it."""
        done, answer = threading.Event(), [""]
        self._asked = (name, done, answer)
        self._soon(self._interrupt)
        while not done.wait(LOOKS):
            if self._loop is None:
                break  # the terminal is released already: nobody can answer
        return answer[0]

    def _soon(self, callback: Callable[[], None]) -> None:
        """Calls it in the thread that has the terminal, as long as it has."""
        loop = self._loop
        if loop:
            with contextlib.suppress(RuntimeError):  # it ended just now
                loop.call_soon_threadsafe(callback)

    # -- on the terminal ----------------------------------------------------------------------------------------------

    def run(self, sides: Sides, greeting: Sequence[str]) -> None:
        """Talks until the person ends it. Raises what ended a conversation otherwise; KeyboardInterrupt after a signal."""
        self.sides, self._greeting = sides, greeting
        self._prompt: PromptSession[str] = PromptSession(
            history=self._history(),
            completer=_Suggesting(sides),
            complete_while_typing=True,
            key_bindings=self._keys(),
            bottom_toolbar=self._toolbar,
            input_processors=[_Hiding(sides)],
            erase_when_done=True,
            enable_suspend=False,
            reserve_space_for_menu=6,
            color_depth=None if styled("x", "bold") != "x" else ColorDepth.DEPTH_1_BIT,
        )
        self._prompt.default_buffer.accept_handler = self._accepted
        failed: list[BaseException] = []

        def work(talk: Talk) -> None:
            try:
                talk.run(talk.session, talk.module)
            except BaseException as fault:  # told by the thread that has the terminal
                failed.append(fault)
            self._soon(self._interrupt)

        self._workers = [threading.Thread(target=work, args=(talk,), name="talk", daemon=True) for talk in sides.talks]
        with signals_to(self._stop):
            try:
                with contextlib.suppress(OSError):  # a terminal that hangs up cannot be drawn on
                    asyncio.run(self._main())
            finally:
                self._loop = None
                sides.end()
                # What has been typed is still said, unless a signal stops it.
                for worker in self._workers:
                    while worker.is_alive() and not self._stopped:
                        worker.join(timeout=LOOKS)
                    worker.join(timeout=WAITS_FOR_END)
        self._print()
        if self._stopped:
            raise KeyboardInterrupt
        if failed:
            raise failed[0]

    def _stop(self) -> None:
        """A signal: nothing more is said or waited for, and the terminal is released."""
        self._stopped = True
        self.sides.abandon()
        self._soon(self._interrupt)

    async def _main(self) -> None:
        self._loop = asyncio.get_running_loop()
        for worker in self._workers:
            worker.start()
        while all(worker.is_alive() for worker in self._workers) and not self._stopped:
            if self._asked:
                await self._answer()
                continue
            try:
                # One prompt for all lines: between two the terminal would echo what is typed, and lose some of it.
                await self._prompt.prompt_async(self._sign, refresh_interval=0.5, pre_run=self._greet)
            except EOFError:
                return
            except _Interrupted:
                continue

    def _accepted(self, buffer: Buffer) -> bool:
        """Takes the line that was typed; the buffer is emptied for the next."""
        if buffer.text:
            self.sides.put(buffer.text)
        return False

    def _sign(self) -> FormattedText:
        """The prompt: it names the side that a typed line goes to."""
        talk = self.sides.now
        colour = SIDES[talk.number] if styled("x", "bold") != "x" else ""
        return FormattedText([(f"bold {PAINTS.get(colour, '')}".strip(), f"{talk.name}> " if talk.name else "> ")])

    async def _answer(self) -> None:
        """A secret is typed; none of it is seen, or kept in the history."""
        assert self._asked
        name, done, answer = self._asked
        self._asked = None
        self._asking = PromptSession()
        try:
            answer[0] = await self._asking.prompt_async(harmless(f"{name}: "), is_password=True)
        except (EOFError, KeyboardInterrupt, _Interrupted):
            answer[0] = ""
        finally:
            done.set()

    def _interrupt(self) -> None:
        for prompt in (self._prompt, *([self._asking] if self._stopped and self._asking else [])):
            if prompt.app.is_running and not prompt.app.is_done:
                prompt.app.exit(exception=_Interrupted())

    def _greet(self) -> None:
        if self._greeted:
            return
        self._greeted = True
        with self._lock:
            self._waiting.extendleft(styled(line, "bold") for line in reversed(self._greeting))
        self._greeter = asyncio.get_running_loop().create_task(self._greet_once_drawn())

    async def _greet_once_drawn(self) -> None:
        """Prints the greeting when the terminal has told where the prompt stands: printed earlier, it would scroll away."""
        await asyncio.sleep(DRAWN)
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self._prompt.app.renderer.wait_for_cpr_responses(), TELLS_PLACE)
        self._print()

    def _print(self) -> None:
        """Puts what waits above the line that is being typed, which is drawn again below; the keyboard is not released."""
        with self._lock:
            lines = list(self._waiting)
            self._waiting.clear()
            self._printing = False
        if not lines:
            return
        text = "".join(f"{harmless(line)}\r\n" for line in lines)
        app = self._prompt.app if self._loop else None
        if app is None or not app.is_running:
            with contextlib.suppress(OSError):  # the terminal hung up
                sys.stdout.write(text)
                sys.stdout.flush()
            return
        app.renderer.erase()
        app.output.write_raw(text)
        app.output.flush()
        app.renderer.reset()
        app.renderer.request_absolute_cursor_position()
        app.invalidate()

    # -- the line that is typed ---------------------------------------------------------------------------------------

    def _history(self) -> History:
        name = self.sides.lexicon.about.family if self.sides.lexicon else "none"
        folder = private_folder(state_folder() / "history")
        return _Discreet(folder / name.replace("/", "-"), self.sides)

    def _toolbar(self) -> FormattedText:
        talk, line = self.sides.addressed(self._prompt.default_buffer.text)
        told = hint(talk.lexicon, line)
        queued = (
            f"  {counted(talk.queued, 'line')} queued"
            if talk.queued
            else "  waiting for the answer"
            if talk.waiting and not talk.in_data
            else ""
        )
        session, other = talk.session, "  Ctrl-T: the other side" if len(self.sides.talks) > 1 else ""
        mode = "  data" if talk.in_data else ""
        state = f" {session.link.name}  {session.link.tuning}  {session.dialect.speech.end}{mode}{queued}{other} "
        return FormattedText([("class:bottom-toolbar", state + (f"  {told}" if told else ""))])

    def _keys(self) -> KeyBindings:
        keys = KeyBindings()

        @keys.add(Keys.BracketedPaste)
        def _(event: KeyPressEvent) -> None:
            lines = event.data.replace("\r\n", "\n").replace("\r", "\n").split("\n")
            buffer = event.current_buffer
            for line in lines[:-1]:
                buffer.insert_text(line)
                self.sides.put(buffer.text)
                if buffer.text:
                    buffer.append_to_history()
                buffer.reset()
            buffer.insert_text(lines[-1])

        @keys.add("c-z")
        def _(event: KeyPressEvent) -> None:
            buffer = event.current_buffer
            self.sides.put(buffer.text + "\x1a", exact=True)
            buffer.reset()

        @keys.add("c-t")
        def _(event: KeyPressEvent) -> None:
            self.sides.turn()

        @keys.add("c-c")
        def _(event: KeyPressEvent) -> None:
            buffer = event.current_buffer
            if buffer.text:
                buffer.reset()
            else:
                left = self.sides.abandon()
                if left:
                    self.show_note(f"{counted(left, 'queued line')} dropped")

        return keys

    def show_note(self, text: str) -> None:
        """A line of Wexicon's own."""
        with self._lock:
            self._waiting.append(styled(text, "magenta"))
        self._soon(self._print)


class _Interrupted(Exception):
    """The prompt ends, because something else wants the terminal."""


class _Suggesting(Completer):
    """Completion from the lexicon of the side that a line is for."""

    def __init__(self, sides: Sides) -> None:
        self._sides = sides

    def get_completions(self, document: Document, complete_event: CompleteEvent) -> Iterable[Completion]:
        talk, text = self._sides.addressed(document.text_before_cursor)
        for one in suggestions(talk.lexicon, text):
            yield Completion(one.text, start_position=one.start - len(text), display_meta=one.meaning)


class _Hiding(Processor):
    """Shows stars for a secret that is being typed."""

    def __init__(self, sides: Sides) -> None:
        self._sides = sides

    def apply_transformation(self, transformation_input: TransformationInput) -> Transformation:
        column = secret_column(self._sides, transformation_input.document.text)
        if column is None:
            return Transformation(transformation_input.fragments)
        shown: list[Any] = []
        at = 0
        for style, text, *_ in transformation_input.fragments:
            kept = max(0, min(len(text), column - at))
            shown.append((style, text[:kept] + "*" * (len(text) - kept)))
            at += len(text)
        return Transformation(shown)


class _Discreet(FileHistory):
    """The history of one family; no line with a secret is in it."""

    def __init__(self, path: Path, sides: Sides) -> None:
        self._sides = sides
        path.touch(mode=0o600)
        super().__init__(str(path))

    def append_string(self, string: str) -> None:
        if secret_column(self._sides, string) is None:
            super().append_string(string)


def secret_column(sides: Sides, text: str) -> int | None:
    """From which column on a typed line holds a secret, if it does."""
    talk, line = sides.addressed(text)
    column = secret_from(talk.reader, line)
    return None if column is None else column + len(text) - len(line)
