"""kindred world"""
