"""Reports: whom one reaches, whether mail arrives, who is on which lists together and hears most."""
