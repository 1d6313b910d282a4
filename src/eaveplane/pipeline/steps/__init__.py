"""The steps of a scene, one module a step. Each is a value that names its result; results are kept in the cache.

They run in whatever executor they are submitted to: `make` with a cache's folder, the step, and a Ticket's path.
"""

from .correct import Correct, corrected_as_read
from .decode import Decode
from .deliver import LEGEND, ORIGINS, Written, deliver, frames_out
from .flaws import Flaws, open_flaws
from .frame import Frame, FrameStep, Measure, open_frame
from .inspect import Inspect, open_inspection
from .label import Evidence, Label, evidence, open_labels, zone_shares
from .layers import FRAME_SUFFIX
from .lift import Lift, Veils, open_veils, veils_of
from .mask import SUFFIX as MASK_SUFFIX
from .mask import GivenMask, by_hand, digest_of, mask_names, write_masks
from .merge import Merge
from .nudge import Nudged
from .places import Locate, open_places
from .register import Register, Registration, laid_beside, open_registration, registered_frames
from .step import UNREADABLE, Step, make
from .weave import Forming, Weave, WovenPicture, open_forming, open_lifted, open_weave, places_for, shares_of, way_of

__all__ = [
    "FRAME_SUFFIX",
    "LEGEND",
    "MASK_SUFFIX",
    "ORIGINS",
    "UNREADABLE",
    "Correct",
    "Decode",
    "Evidence",
    "Flaws",
    "Forming",
    "Frame",
    "FrameStep",
    "GivenMask",
    "Inspect",
    "Label",
    "Lift",
    "Locate",
    "Measure",
    "Merge",
    "Nudged",
    "Register",
    "Registration",
    "Step",
    "Veils",
    "Weave",
    "WovenPicture",
    "Written",
    "by_hand",
    "corrected_as_read",
    "deliver",
    "digest_of",
    "evidence",
    "frames_out",
    "laid_beside",
    "make",
    "mask_names",
    "open_flaws",
    "open_forming",
    "open_frame",
    "open_inspection",
    "open_labels",
    "open_lifted",
    "open_places",
    "open_registration",
    "open_veils",
    "open_weave",
    "places_for",
    "registered_frames",
    "shares_of",
    "veils_of",
    "way_of",
    "write_masks",
    "zone_shares",
]
