"""Every kind of channel: a module for each says what there is to set.

Letters are sent by the modules of `notices/channels`.
"""

from collections.abc import Mapping

from historon.estate.channels.channel import CERTIFICATE_PIN, Channel
from historon.estate.kinds import kinds_in

__all__ = ["CERTIFICATE_PIN", "CHANNELS", "Channel"]

CHANNELS: Mapping[str, type[Channel]] = kinds_in(__name__, __path__, Channel, "kind")
