"""Controls: what animators take hold of instead of bones, and motion carried from bones to controls and back."""
