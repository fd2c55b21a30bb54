namespace Vestige.Web.Views;

/// <summary>One page of a list.</summary>
/// <typeparam name="T">What is listed.</typeparam>
/// <param name="Shown">What is on the page.</param>
/// <param name="Number">The page, from 1 on.</param>
/// <param name="Last">The last page, from 1 on.</param>
/// <param name="Count">How many there are on all pages.</param>
public sealed record PageOf<T>(IReadOnlyList<T> Shown, int Number, int Last, int Count);
