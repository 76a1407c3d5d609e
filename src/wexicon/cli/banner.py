"""A word in letters five lines high, legible from a metre away.

The rule: it says nothing that is not printed in plain letters too.
"""

from __future__ import annotations

# Each letter by its five rows; # is ink.
_LETTERS = {
    "A": " ### |#   #|#####|#   #|#   #",
    "C": " ####|#    |#    |#    | ####",
    "D": "#### |#   #|#   #|#   #|#### ",
    "E": "#####|#    |#### |#    |#####",
    "F": "#####|#    |#### |#    |#    ",
    "I": "###| # | # | # |###",
    "K": "#   #|#  # |###  |#  # |#   #",
    "L": "#    |#    |#    |#    |#####",
    "M": "#   #|## ##|# # #|#   #|#   #",
    "N": "#   #|##  #|# # #|#  ##|#   #",
    "O": " ### |#   #|#   #|#   #| ### ",
    "P": "#### |#   #|#### |#    |#    ",
    "R": "#### |#   #|#### |#  # |#   #",
    "S": " ####|#    | ### |    #|#### ",
    "T": "#####|  #  |  #  |  #  |  #  ",
    "U": "#   #|#   #|#   #|#   #| ### ",
    "V": "#   #|#   #|#   #| # # |  #  ",
}
ROWS = 5


def banner(word: str, width: int) -> list[str]:
    """The rows of a word in capitals; the word itself, where it has other letters or is wider than `width` columns."""
    word = word.upper()
    letters = [_LETTERS[letter].split("|") for letter in word if letter in _LETTERS]
    rows = ["  ".join(letter[row] for letter in letters).replace("#", "█") for row in range(ROWS)]
    return rows if len(letters) == len(word) and len(rows[0]) <= width else [word]
