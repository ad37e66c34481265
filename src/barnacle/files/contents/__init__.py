"""What stands in whatever goes along with a message: opened as a recipient can open it, within bounds.

`message` takes a message apart; `opening` says what a file is and opens it; each of the others knows kinds of files.
"""
