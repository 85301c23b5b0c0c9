"""Tests of seals, sealed reports and what they say when something was changed."""
