"""What the requests of several routes share. Answers are the views of the services. Numbers must be finite; ids are short."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

Id = Annotated[str, Field(min_length=1, max_length=40)]
Ids = Annotated[list[Id], Field(min_length=1, max_length=20_000)]
Db = Annotated[float, Field(ge=-120, le=120, allow_inf_nan=False)]
Seconds = Annotated[float, Field(ge=0, le=1_000_000, allow_inf_nan=False)]
Name = Annotated[str, Field(min_length=1, max_length=400)]
Limit = Annotated[float, Field(ge=0, le=60, allow_inf_nan=False)]


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

    unit: Literal["loudness", "rms", "peak"] | None = None
    target_kind: Literal["absolute", "median", "reference"] | None = None
    target: Annotated[float, Field(ge=-60, le=0, allow_inf_nan=False)] | None = None
    tolerance: Annotated[float, Field(ge=0, le=12, allow_inf_nan=False)] | None = None
    strength: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] | None = None
    most_up: Limit | None = None
    most_down: Limit | None = None
    ceiling: Annotated[float, Field(ge=-40, le=0, allow_inf_nan=False)] | None = None
    noise_limit: Annotated[float, Field(ge=-100, le=0, allow_inf_nan=False)] | None = None
    base_kind: Literal["auto", "hand", "none"] | None = None
    base: Annotated[float, Field(ge=-60, le=60, allow_inf_nan=False)] | None = None
    settle: bool | None = None
    keep_by_hand: bool | None = None
    mono_as_two: bool | None = None
    longest: Annotated[float, Field(ge=2, le=60, allow_inf_nan=False)] | None = None


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
