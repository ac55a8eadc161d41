"""Suggestions of decisions: each is an edit that the designer may take, change or leave."""
