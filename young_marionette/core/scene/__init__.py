"""What a stage shows, without an interface: figures, the camera, what lies under the pointer, and flat views of skeletons."""
