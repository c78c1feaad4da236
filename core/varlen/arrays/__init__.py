"""The door for code: arrays and labels in, arrays and labels out, with the draws of files, screens and exports."""
