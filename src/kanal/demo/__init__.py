"""The demo: an invented waterway with two old lock-house databases and one new register."""

from kanal.demo.world import JOB_FILE, write_demo

__all__ = ["JOB_FILE", "write_demo"]
