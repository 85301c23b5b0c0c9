"""Verified workloads, the worker program that runs them, and the team of workers that the engine leads.

Every beat of a load is compared with a known answer. When a load runs, how long and what stops it is left
to `thresher.engine`; what a mismatch says about parts to `thresher.diagnosis`.
"""
