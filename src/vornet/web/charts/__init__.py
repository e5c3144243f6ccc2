"""Charts as SVG made on the server from small typed descriptions; styled by CSS classes."""
