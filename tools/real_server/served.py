"""A runtime that puts an ONNX file behind a server of the Open Inference Protocol that is not ours, for tests to ask."""

from __future__ import annotations

import onnxruntime as ort
from mlserver import MLModel
from mlserver.codecs import NumpyCodec
from mlserver.types import InferenceRequest, InferenceResponse


class OnnxFile(MLModel):
    """Answers with the first output of the file that ``parameters.uri`` names."""

    async def load(self) -> bool:
        self.session = ort.InferenceSession(self.settings.parameters.uri, providers=["CPUExecutionProvider"])
        return True

    async def predict(self, payload: InferenceRequest) -> InferenceResponse:
        batch = NumpyCodec.decode_input(payload.inputs[0])
        (scores,) = self.session.run(None, {self.session.get_inputs()[0].name: batch})
        output = NumpyCodec.encode_output("scores", scores)
        return InferenceResponse(model_name=self.name, model_version=self.version, outputs=[output])
