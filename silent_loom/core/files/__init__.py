"""Reading and writing image files at their true depth."""

from silent_loom.core.files.limits import Limits
from silent_loom.core.files.picture import Exif, Picture
from silent_loom.core.files.read import read, read_ahead
from silent_loom.core.files.write import Written, write

__all__ = ["Exif", "Limits", "Picture", "Written", "read", "read_ahead", "write"]
