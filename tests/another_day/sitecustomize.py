"""On the path of a run whose clock is set: sleeping by another call, for the one that Python takes fails where clocks differ so far."""

import select
import time

time.sleep = lambda seconds: select.select([], [], [], seconds)
