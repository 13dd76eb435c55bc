"""Files as targets: a text file is written anew beside itself and swapped in."""
