"""The changes to each frame between decoding and encoding: shape, colour, burn-ins, watermark."""
