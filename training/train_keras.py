"""Trains the demo's second network, in Keras: another input size, channels last, probabilities at the end.

    python training/train_keras.py OUT_DIR [--pictures 9000] [--epochs 16]

Writes OUT_DIR/channel_marks.keras and prints the accuracy on 500 pictures that training never drew. Takes
some minutes on two cores.
"""

import argparse
import os
import sys
from pathlib import Path

os.environ.setdefault("KERAS_BACKEND", "jax")

from pictures import TRAINING_SERIES, UNSEEN_SERIES, draw_set

from zygal.demo.marks import LABELS

sys.path.insert(0, str(Path(__file__).parents[1] / "src/zygal/demo/data/keras"))
from training_code import load_image  # noqa: E402


def make_model(keras):
    layers = keras.layers
    given = keras.Input((48, 64, 3), name="picture")
    x = layers.Conv2D(16, 3, strides=2, padding="same", use_bias=False, name="stem")(given)
    x = layers.ReLU(6.0, name="stem_relu")(layers.BatchNormalization(name="stem_norm")(x))
    for stage, (width, stride) in enumerate(((24, 2), (40, 1), (40, 2), (64, 1), (64, 1)), 1):
        before = x
        x = layers.SeparableConv2D(width, 3, strides=stride, padding="same", use_bias=False, name=f"separable{stage}")(
            x
        )
        x = layers.Activation("swish", name=f"swish{stage}")(layers.BatchNormalization(name=f"norm{stage}")(x))
        if before.shape == x.shape:
            x = layers.Add(name=f"sum{stage}")([before, x])
    x = layers.MaxPooling2D(2, padding="same", name="pool")(x)
    x = layers.Flatten(name="flatten")(x)
    x = layers.Dropout(0.2, name="dropout")(x)
    return keras.Model(given, layers.Dense(len(LABELS), activation="softmax", name="marks")(x), name="channel_marks")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("out", type=Path)
    parser.add_argument("--pictures", type=int, default=9000)
    parser.add_argument("--epochs", type=int, default=16)
    options = parser.parse_args()
    images, labels = draw_set(load_image, TRAINING_SERIES, options.pictures, "spawn")
    import keras

    keras.utils.set_random_seed(20)
    model = make_model(keras)
    steps = options.epochs * (len(images) // 96 + 1)
    schedule = keras.optimizers.schedules.CosineDecay(4e-3, steps)
    model.compile(keras.optimizers.AdamW(schedule, weight_decay=0.02), "sparse_categorical_crossentropy")
    model.fit(images, labels, batch_size=96, epochs=options.epochs, verbose=2)
    unseen, right = draw_set(load_image, UNSEEN_SERIES, 500, "spawn")
    print(f"accuracy on 500 unseen pictures: {(model.predict(unseen, verbose=0).argmax(1) == right).mean():.1%}")
    options.out.mkdir(parents=True, exist_ok=True)
    model.optimizer = None
    keras.Model(model.input, model.output, name="channel_marks").save(options.out / "channel_marks.keras")


if __name__ == "__main__":
    main()
