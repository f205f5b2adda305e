import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'
import { useEffect, useRef } from 'react'

// page is how many things of a list are read at once; further ones are read as somebody comes to the end.
const page = 20

// useEndless reads a list part by part. end is for an element behind the last line.
export function useEndless<T>(
  key: unknown[],
  query: Record<string, string | number>,
  read: (of: Record<string, string | number>) => Promise<{ list: T[]; total: number }>,
) {
  const end = useRef<HTMLDivElement>(null)
  const list = useInfiniteQuery({
    queryKey: [...key, query],
    queryFn: ({ pageParam }) => read({ ...query, limit: page, offset: pageParam }),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => (pages.length * page < last.total ? pages.length * page : undefined),
    placeholderData: keepPreviousData,
  })
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list
  useEffect(() => {
    const seen = new IntersectionObserver(
      (of) => of.some((e) => e.isIntersecting) && hasNextPage && !isFetchingNextPage && void fetchNextPage(),
      { rootMargin: '800px' },
    )
    if (end.current) seen.observe(end.current)
    return () => seen.disconnect()
  }, [hasNextPage, isFetchingNextPage, fetchNextPage])
  return {
    all: list.data?.pages.flatMap((p) => p.list) ?? [],
    total: list.data?.pages[0].total ?? 0,
    read: list.isSuccess,
    error: list.error,
    end,
  }
}
