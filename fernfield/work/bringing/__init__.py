"""Shapes that people bring, which several rooms may ask for."""
