"""What is done to each picture between decoding and encoding: shape, pixel format, burn-ins, watermark."""
