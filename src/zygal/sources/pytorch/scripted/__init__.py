"""Scripted and traced archives (`torch.jit.save`): their code is read as text and followed, never run."""
