"""Bodies over skeletons: meshes, skins, morphs and materials, and what they are like."""
