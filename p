version https://git-lfs.github.com/spec/v1
oid sha256:bdb3815aaa37fd79b3ee5225c805cbff7c677d10fa1d0280bf2a6ec23f5fd892
size 4385472
