"""What the kernel, drivers and firmware say: log records, machine checks, memory-controller errors.

Decoding turns them into typed events and findings with a fault code. What a finding says about parts is
left to `thresher.diagnosis`.
"""
