"""One module per operation of the trade: layers in, a layer and a summary out. No files, no words."""
