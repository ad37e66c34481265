"""Mail of house lists: taken in by LMTP, looked through, passed on by SMTP; pages for people without a token."""
