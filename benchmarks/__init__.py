"""Benchmarks: the work of the library side by side with what people use instead."""
