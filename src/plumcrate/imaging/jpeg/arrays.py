"""Names for the arrays that the kernels work on."""

from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

U8: TypeAlias = NDArray[np.uint8]
U16: TypeAlias = NDArray[np.uint16]
U32: TypeAlias = NDArray[np.uint32]
I16: TypeAlias = NDArray[np.int16]
I32: TypeAlias = NDArray[np.int32]
I64: TypeAlias = NDArray[np.int64]
