"""How what commands tell looks: for people, and as JSON for programs. A module for each command."""
