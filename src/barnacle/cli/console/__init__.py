"""What the user sees and answers: the screen, questions, the picker, the review, the editor, shapes of JSON.

Knows no command.
"""
