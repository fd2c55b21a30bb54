namespace Vestige.Core.Positions;

/// <summary>
/// From where a source can be asked to continue, in its own words: all that it needs beside an offset, such as a file and an offset
/// with a set of transactions. It outlives the spool, since targets store it too.
/// </summary>
/// <param name="Identity">The log that it was read from.</param>
/// <param name="Text">
/// What only the connector of that source understands: its token, or the position in its notation where it gave none.
/// </param>
public sealed record ResumeToken(LogIdentity Identity, string Text);
