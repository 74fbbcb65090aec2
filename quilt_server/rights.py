"""Rights, declared at each address: what is asked of who calls it. An address without one is not served; a test walks all of them."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

from .projects.asker import Right, asked_by, current_id

V = TypeVar("V", bound=Callable[..., Any])


def right(needed: Right) -> Callable[[V], V]:
    """A view that needs a right of who asks; `people.project_of` and its like look for it. It stands directly under the view's address."""

    def declared(view: V) -> V:
        @wraps(view)
        def run(*args: Any, **given: Any) -> Any:
            with asked_by(current_id(), needed):
                return view(*args, **given)

        # Where annotations are texts, whoever reads them would look for their names in this module.
        run.__signature__ = inspect.signature(view, eval_str=True)  # type: ignore[attr-defined]
        run.right = needed  # type: ignore[attr-defined]
        return run  # type: ignore[return-value]

    return declared


ANYBODY, SIGNED_IN, LOOK, CHANGE, OWN = (right(r) for r in Right)
