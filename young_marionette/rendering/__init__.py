"""Drawing figures with OpenGL into pictures, without a window or a screen."""
