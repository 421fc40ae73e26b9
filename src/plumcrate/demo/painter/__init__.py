"""Paints the pictures of the Gannet Ledge Light Trust: photographs with honest texture, drawings, a mess.

Everything is made from seeded noise and plain drawing, so that the same library comes out each time.
"""
