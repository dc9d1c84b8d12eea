"""Layers that lie elsewhere: files and services on the web, fetched once and kept."""
