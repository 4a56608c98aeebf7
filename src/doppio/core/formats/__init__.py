"""Files in and out: documents, labelled questions, runs and judgements."""
