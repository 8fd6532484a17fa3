"""Lean Curve's core: captured skeletal motion as documents, and operations on them.

Nothing here knows of a web server or a screen. Arrays are ``(frames, joints, n)``,
quaternions ``(x, y, z, w)``, angles degrees, lengths the skeleton's unit, time frames.
"""

__version__ = "0.1.0"
