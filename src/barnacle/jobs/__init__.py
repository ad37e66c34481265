"""One function for each thing a person does; what another front end would call."""
