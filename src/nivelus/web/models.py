"""What the requests of several routes share. Answers are the views of the services. Numbers must be finite; ids are short."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from nivelus.core.rule import BaseKind, TargetKind, Unit, limits

Id = Annotated[str, Field(min_length=1, max_length=40)]
Ids = Annotated[list[Id], Field(min_length=1, max_length=20_000)]
Db = Annotated[float, Field(ge=-120, le=120, allow_inf_nan=False)]
Seconds = Annotated[float, Field(ge=0, le=1_000_000, allow_inf_nan=False)]
Name = Annotated[str, Field(min_length=1, max_length=400)]


def within(path: str) -> Any:
    """The limits of a number that is the setting of a rule at a path."""
    return between(*limits(path))


def between(least: float, most: float) -> Any:
    """The limits of a number."""
    return Field(ge=least, le=most, allow_inf_nan=False)


class Request(BaseModel):
    """A request body: nothing but what is declared."""

    model_config = ConfigDict(extra="forbid")


class Values(Request):
    """Values of a rule; what is absent stays as it is."""

    def values(self) -> dict[str, Any]:
        """What was given."""
        return {name: value for name, value in self.model_dump().items() if value is not None}


class SessionPath(BaseModel):
    """A session in an address."""

    session_id: Id


class TrackPath(BaseModel):
    """A track in an address."""

    track_id: Id


class GainQuery(BaseModel):
    """The gain that is asked about, by its key: another one is not told of. The present one if none is named."""

    key: Annotated[str, Field(min_length=1, max_length=64)] | None = None


class AtRevision(BaseModel):
    """The revision of the session that is asked about: of another one nothing is told. The present one if none is named."""

    revision: Annotated[int, Field(ge=0)] | None = None


class Revised(Request):
    """A write, with the revision that it is based on."""

    revision: int = Field(ge=0)


class Accepted(Revised):
    """A draft to accept: with the ``stamp`` that it had on view, it is done only if it is still the same."""

    stamp: str | None = Field(default=None, max_length=64)


class RuleIn(Values):
    """Values of the rule; those that are absent stay."""

    unit: Unit | None = None
    target_kind: TargetKind | None = None
    target: Annotated[float, within("target.level")] | None = None
    tolerance: Annotated[float, within("target.tolerance")] | None = None
    strength: Annotated[float, within("phrases.strength")] | None = None
    most_up: Annotated[float, within("phrases.most_up")] | None = None
    most_down: Annotated[float, within("phrases.most_down")] | None = None
    ceiling: Annotated[float, within("phrases.ceiling")] | None = None
    noise_limit: Annotated[float, within("phrases.noise_limit")] | None = None
    base_kind: BaseKind | None = None
    base: Annotated[float, within("phrases.base")] | None = None
    settle: bool | None = None
    keep_by_hand: bool | None = None
    mono_as_two: bool | None = None
    longest: Annotated[float, within("phrases.longest")] | None = None


class Join(Revised):
    """What to join."""

    clips: Ids


class RevisionQuery(BaseModel):
    """The revision that a deletion is based on."""

    revision: int = Field(ge=0)


class Problem(BaseModel):
    """What went wrong (RFC 9457): ``detail`` is a sentence for the person."""

    type: str
    title: str
    status: int
    detail: str
