"""What people read about files and work: the sentences of facts, findings and snags, made of their codes and values.

The window and the command line show the same words; nothing below ever reads them back.
"""
