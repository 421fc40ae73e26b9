"""What is made of a picture beside itself, and over it: sizes, cuts, touch-ups, watermarks, and what nobody
uses.

Each module is a page of the console: its definitions on record, and what a change of them would do.
"""
