"""Routes with a description that is made only where somebody asks for it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask_openapi3 import APIBlueprint, OpenAPI, Tag
from flask_openapi3.types import ParametersTuple
from flask_openapi3.utils import parse_parameters

from nivelus.web.context import PROBLEMS


class Routes(APIBlueprint):
    """The routes of one part of the program.

    The description of a hundred routes, each with what it answers, takes most of the time in which the program would start;
    none but the maker of the front end's types and the tests read it.
    """

    def __init__(self, name: str, tag: str, url_prefix: str) -> None:
        super().__init__(name, __name__, url_prefix=url_prefix, abp_tags=[Tag(name=tag)], abp_responses=PROBLEMS)
        self._undescribed: list[tuple[str, Callable[..., Any], dict[str, Any]]] = []

    def _collect_openapi_info(self, rule: str, func: Callable[..., Any], **described: Any) -> ParametersTuple:
        self._undescribed.append((rule, func, described))
        return parse_parameters(func, doc_ui=False)

    def describe(self) -> None:
        """Make the description of the routes, which an application that takes them in afterwards has as well."""
        for rule, func, described in self._undescribed:
            super()._collect_openapi_info(rule, func, **described)
        self._undescribed.clear()

    def join(self, app: OpenAPI, described: bool) -> None:
        """Take the routes into an application; into its description as well if it is ``described``."""
        if described:
            self.describe()
        before = dict(app.paths)
        app.register_api(self)
        # an address that another part has for another method as well would lose that
        for address in before.keys() & self.paths.keys():
            own = self.paths[address]
            app.paths[address] = before[address].model_copy(update={name: getattr(own, name) for name in own.model_fields_set})
