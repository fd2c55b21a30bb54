namespace Vestige.Engine.Undoing;

/// <summary>That tables be kept for a while instead of being dropped.</summary>
/// <param name="Connection">The target.</param>
/// <param name="Crossing">The crossing that has written them.</param>
/// <param name="Why">What is done, as a sentence.</param>
/// <param name="By">Who asks for it.</param>
/// <param name="Hours">For how many hours.</param>
internal sealed record UndoRequest(string Connection, string Crossing, string Why, string By, int Hours);
