"""What all views are."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class View(BaseModel):
    """What all views are: read-only, every field present."""

    model_config = ConfigDict(
        frozen=True,
        json_schema_mode_override="serialization",
        json_schema_serialization_defaults_required=True,
    )
