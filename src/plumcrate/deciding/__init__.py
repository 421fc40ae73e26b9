"""Deciding which treatment each file gets, before anything is done. Nothing here touches a file.

``decision`` turns a recipe into variants, ``shaping`` adds touch-ups, sizes and watermarks, ``planning`` says
what a recipe would do, ``sizing`` says which files sizes ask for, ``size_names`` how those are called.
"""
