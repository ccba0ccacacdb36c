"""Many hauls from one list: reading the list, running its rows, and saying what came of each."""
