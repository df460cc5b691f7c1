"""What a routine says about lids: one question for all that closes."""

__all__ = ["LIDS", "LIDS_ANSWERS", "LIDS_ASKED"]

LIDS = "what to do where closing would fill a vessel: ask and leave it open, or close it all the same"
LIDS_ANSWERS = "set {step}.lids to close, or scan the rest of the inside"
LIDS_ASKED = (("{step}.lids=close", "to have it solid up to there"),)
