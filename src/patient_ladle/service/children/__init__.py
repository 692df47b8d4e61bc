"""Child processes: a driver that hangs or dies in one takes nobody else down. The child itself has no Django."""
