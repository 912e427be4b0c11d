"""The same as classify.py for mobile flatbuffers (.tflite). Needs NumPy, Pillow and the mobile runtime, ai-edge-litert.

python classify_mobile.py IMAGE...
python classify_mobile.py --check
"""

import sys

from ai_edge_litert.interpreter import Interpreter
from classify import HERE, Classifier, main


class MobileClassifier(Classifier):
    ENDING = ".tflite"

    def __init__(self, model):
        self.model, self.interpreter = model, Interpreter(model_path=str(HERE / model["file"]), num_threads=1)

    def scores(self, tensor):
        interpreter, (port,) = self.interpreter, self.interpreter.get_input_details()
        batch = tensor[None].repeat(self.model["input"]["batch"] or 1, axis=0)
        interpreter.resize_tensor_input(port["index"], batch.shape)
        interpreter.allocate_tensors()
        interpreter.set_tensor(port["index"], batch)
        interpreter.invoke()
        return interpreter.get_tensor(interpreter.get_output_details()[self.model["output"]["place"]]["index"])[0]


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:], MobileClassifier))
