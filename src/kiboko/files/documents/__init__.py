"""YAML documents whose values know their lines, and shapes that they are held against."""
