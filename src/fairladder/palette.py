"""All colours of figures, pages and terminals; one colour per stance."""

#: Distinguishable with any common colour blindness, and by lightness in print.
STANCE_COLOURS = {
    "keep": "#1d4e89",
    "grow": "#2f9e8f",
    "welcome": "#c08a12",
    "win-back": "#c4512d",
    "leave": "#858b93",
}
INK, FAINT, PAPER = "#22272e", "#6b7280", "#ffffff"
#: Light to dark, for shading by size.
SHADES = ("#f1f5f9", "#c9d9e8", "#8fb1d0", "#5486b4", "#1d4e89")
#: The stances' colours on terminals with 8 or 16 colours; these five differ in any theme.
STANCE_NAMES = {
    "keep": "blue",
    "grow": "green",
    "welcome": "yellow",
    "win-back": "red",
    "leave": "white",
}
