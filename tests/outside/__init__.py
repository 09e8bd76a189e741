"""The outside judge: what any input must hold, asked of inputs that nobody drew, and judged by readers that share no line with ours."""
