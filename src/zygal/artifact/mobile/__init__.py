"""The mobile flatbuffer: a graph spelt by the operators of the mobile runtime, images with their channels last."""
