"""The version of Kanal, which is written down here alone."""

VERSION = "0.2.0.dev0"
