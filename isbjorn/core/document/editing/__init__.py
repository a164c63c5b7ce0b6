"""What is done to documents: patches, copies, differences, and the shot without what is switched off."""
