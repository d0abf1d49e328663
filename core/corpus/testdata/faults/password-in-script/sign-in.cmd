@echo off
rasdial "Skerry Line Norrvik" a_fjell tern-88-Gannet-orbit
