"""Single channels thinned by themselves, whatever they are of."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from leancurve.cleaning.thinning import Channel, find_landmarks, fit_channel
from leancurve.curves.curve import Curve, KeyedCurve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId


def thinned_tracks(
    clip: Clip,
    tracks: Iterable[TrackId],
    within_deg: float,
    within_mm: float,
    made: Mapping[TrackId, Curve] | None = None,
) -> dict[TrackId, Curve]:
    """Keys in the place of values on every frame, each channel within its tolerance: of the clip's
    curves, or those ``made`` in their place."""
    out: dict[TrackId, Curve] = {}
    for track in tracks:
        curve = (made or {}).get(track, clip.curves[track])
        if isinstance(curve, KeyedCurve) or clip.frames < 2:
            continue
        tolerance = within_deg if track.turns else within_mm / clip.millimetres
        marks = find_landmarks(curve.values, tolerance, float(clip.rate), least=tolerance)
        channel = Channel(curve.values, tolerance, marks)
        out[track] = fit_channel(channel.at_rest if channel.still else channel)
    return out
