/** A refusal to publish without the flags of the command line: here there are boxes to tick. */
export const withoutFlags = (message: string) =>
  message.replace(
    /[;,] (?:if (?:that is|both are) meant, |mend them, or |or )?publish with (?:--[\w-]+ ?)+(?:and a reason)?/g,
    '',
  );
