package base

// Platform is what a definition says of a container image.
func Platform(name string) any { return containerSays{platform: name} }
