"""Mobile flatbuffers as sources, read without any runtime."""
