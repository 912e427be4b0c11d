"""The open flatbuffer format of the mobile runtime: its schema as data, and files to plain records and back."""
